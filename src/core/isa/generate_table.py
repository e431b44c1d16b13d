#!/usr/bin/env python3
"""Turns the instruction-set files (*.isa; the notation is explained at the top of x86.isa) into the C++
tables of isa/table.h: operations, encoding rows, operand kinds and the decision trees of the decoder.

usage: generate_table.py OUTPUT.inc INPUT.isa…

Refuses a table in which two rows claim the same bytes with the same precision."""
import re
import sys

# The questions of the decision trees: where their answer lies in the decoder's context word (decoder.cpp), how many
# bits it has, how many values. The order is the order of the questions.
DIMENSIONS = {
    "pp": (8, 2, 4), "mod": (6, 1, 2), "reg": (3, 3, 8), "rm": (0, 3, 8), "w": (10, 1, 2), "l": (11, 2, 4),
    "osize": (13, 2, 3), "asize": (15, 2, 3), "rexb": (17, 1, 2),
}
# Opcode maps in the decoder's order.
MAPS = {key: i for i, key in enumerate([
    ("legacy", ""), ("legacy", "0F"), ("legacy", "0F38"), ("legacy", "0F3A"), ("legacy", "0F0F"),
    ("VEX", "0F"), ("VEX", "0F38"), ("VEX", "0F3A"),
    ("EVEX", "0F"), ("EVEX", "0F38"), ("EVEX", "0F3A"), ("EVEX", "M5"), ("EVEX", "M6"),
    ("XOP", "M8"), ("XOP", "M9"), ("XOP", "MA")])}
PP = {"NP": 0, "66": 1, "F3": 2, "F2": 3}
FLAG_BITS = {"c": 0x1, "p": 0x4, "a": 0x10, "z": 0x40, "s": 0x80, "i": 0x200, "d": 0x400, "o": 0x800}
TRAITS = ["faults", "privileged", "nondeterministic", "shadow", "bitoffset", "rep", "repz", "stack", "near",
          "gate", "serializing", "aligned", "float", "lock", "flagimage", "x87", "x87push", "x87pop", "x87state",
          "vectorstate", "unknownextent", "zeroupper", "zeroall", "four", "pair", "alias", "second", "norip", "riponly",
          "distinct", "nosize", "blend"]
VECTOR = ["mask", "zero", "needmask", "er", "sae", "anymod", "exact"]
FEATURES = """none base i686 sse sse2 sse3 ssse3 sse4.1 sse4.2 sse4a mmx 3dnow aes pclmul sha gfni x87 fxsr xsave
xsaveopt xsavec xsaves cx16 movbe popcnt lzcnt bmi1 bmi2 adx fsgsbase rdrand rdseed rdpid rdtscp clflush clflushopt clwb
prefetchw prefetchwt1 prefetchi avx f16c fma avx2 avxvnni avxifma avxvnniint8 avxneconvert vaes vpclmulqdq avx512f
avx512cd avx512er avx512pf avx512dq avx512bw avx5124fmaps avx5124vnniw avx512vpopcntdq avx512ifma avx512vbmi
avx512vbmi2 avx512vnni avx512bitalg avx512bf16 avx512vp2intersect avx512fp16 xop fma4 tbm lwp amxtile amxint8 amxbf16
amxfp16 cmpccxadd raoint keylocker uintr serialize ptwrite cldemote wbnoinvd hreset pconfig sgx smx monitor mwaitx
clzero rdpru mcommit wrmsrns msrlist invpcid vmx svm tdx seves snp invlpgb padlock rtm tsxldtrk pku cet mpx movdiri
movdir64b enqcmd waitpkg""".split()
KINDS = ["next", "jump", "conditional", "call", "return", "trap", "system"]
ACCESS = {"-": 0, "r": 1, "w": 2, "rw": 3, "p": 5, "c": 6, "cr": 7}  # bit 0 read, bit 1 written, bit 2 only perhaps

GPR = ["AX", "CX", "DX", "BX", "SP", "BP", "SI", "DI"]
WIDTHS = {"b": "b8", "w": "b16", "d": "b32", "q": "b64", "t": "b80", "dq": "b128", "qq": "b256", "oq": "b512",
          "x": "vector", "h": "vector_half", "f": "vector_fourth", "e": "vector_eighth",
          "ss": "b32", "sd": "b64", "hq": "high64", "hd": "high96", "hw": "high112", "lt": "low96",
          "ht": "high32", "mb": "elements8", "mw": "elements16", "md": "elements32",
          "mq": "elements64", "v": "operand", "z": "operand32", "y": "rexw",
          "p": "far_pointer", "s": "table_register", "n": "native", "nn": "native_value", "v2": "operand_twice",
          "dw": "low16_of_32", "ev": "x87_environment", "st": "x87_state", "fx": "b4096", "u": "unknown", "o": "bounds",
          "-": "none"}
LETTERS = {  # letter -> (source, register file)
    "E": ("rm", "general"), "R": ("rm", "general"), "M": ("rm", "general"), "G": ("reg", "general"),
    "Z": ("opcode", "general"), "B": ("vvvv", "general"), "S": ("reg", "segment"), "C": ("reg", "control"),
    "D": ("reg", "debug"), "V": ("reg", "vector"), "W": ("rm", "vector"), "U": ("rm", "vector"),
    "H": ("vvvv", "vector"), "L": ("is4", "vector"), "I": ("immediate", "none"), "N": ("immediate_signed", "none"),
    "J": ("relative", "none"), "O": ("absolute", "none"), "A": ("far", "none"),
    "X": ("string_source", "none"), "Y": ("string_destination", "none"),
}
OTHER_FILES = {"k": ("mask", None), "m": ("mmx", None), "f": ("x87", "b80"), "t": ("tile", "tile"),
               "b": ("bound", "bounds"), "a": ("general", "address")}
IMMEDIATES = {("I", "b"): "bytes1", ("I", "w"): "bytes2", ("I", "d"): "bytes4", ("I", "z"): "operand32",
              ("I", "v"): "operand", ("N", "b"): "bytes1", ("J", "b"): "bytes1", ("J", "z"): "branch",
              ("J", "v"): "operand32", ("A", "p"): "far", ("O", "b"): "address", ("O", "v"): "address"}
BYTES = {"b8": 1, "b16": 2, "b32": 4, "b64": 8, "b80": 16, "b128": 16, "b256": 32, "b512": 64, "vector": 16,
         "vector_half": 8, "vector_fourth": 4, "vector_eighth": 2}


def fail(place, message):
    sys.exit(f"{place}: {message}")


def fixed_register(word):
    """The fixed-register words: (file, index, bit offset, width)."""
    if word in ("AL", "CL", "AH"):
        return "general", {"A": 0, "C": 1}[word[0]], 8 if word[1] == "H" else 0, "b8"
    if word in GPR:
        return "general", GPR.index(word), 0, "b16"
    if word[0] in "ERrzya" and word[1:] in GPR:
        width = {"E": "b32", "R": "b64", "r": "operand", "z": "operand32", "y": "rexw", "a": "address"}[word[0]]
        if word == "rSP":
            width = "stack"
        return "general", GPR.index(word[1:]), 0, width
    if re.fullmatch(r"R\d+", word):
        return "general", int(word[1:]), 0, "b64"
    if word in ("ES", "CS", "SS", "DS", "FS", "GS"):
        return "segment", ["ES", "CS", "SS", "DS", "FS", "GS"].index(word), 0, "b16"
    if re.fullmatch(r"ST\d", word):
        return "x87", int(word[2:]), 0, "b80"
    if re.fullmatch(r"TMM\d", word):
        return "tile", int(word[3:]), 0, "tile"
    return {"MXCSR": ("mxcsr", 0, 0, "b32"), "FCW": ("x87_control", 0, 0, "b16"), "FSW": ("x87_status", 0, 0, "b16"),
            "XMM0": ("vector", 0, 0, "b128"), "XMM0q": ("vector", 0, 0, "b64")}.get(word)


def operand_kind(word, place):
    """One operand word as the fields of OperandKind: source, file, index, offset, width."""
    register = fixed_register(word)
    if register:
        return ("fixed", register[0], register[1], register[2], register[3])
    if word == "1":
        return ("one", "none", 1, 0, "b8")
    if word == "I4":
        return ("immediate_low4", "none", 0, 0, "b8")
    stack = re.fullmatch(r"(push|pop)(\d?)", word)
    if stack:
        return (stack[1], "none", int(stack[2] or 1), 0, "stack_slots")
    if word in ("enter", "leave", "display"):
        return (word, "none", 1, 0, "stack_slots")
    if word == "xlat":
        return ("xlat", "none", 0, 0, "b8")
    if word == "toreg":
        return ("at_reg", "none", 0, 0, "b512")
    if word == "lineax":
        return ("at_ax", "none", 0, 0, "b512")
    if word == "tM":
        return ("rm", "general", 0, 0, "unknown")
    gather = re.fullmatch(r"vM([dq])\.(\w+)\.([dq])", word)
    if gather:  # index element, width of the index register, element
        return ("gather", "vector", 4 if gather[1] == "d" else 8,
                {"x": 0, "h": 1, "dq": 2, "qq": 3, "oq": 4}[gather[2]], WIDTHS[gather[3]])
    if word[0] in OTHER_FILES and word[1] in "GERB":
        file, width = OTHER_FILES[word[0]]
        source = LETTERS[word[1]][0]
        return (source, file, 0, 0, width or WIDTHS[word[2:]])
    letter, width = word[0], word[1:]
    if letter in LETTERS and width in WIDTHS:
        source, file = LETTERS[letter]
        return (source, file, 0, {"hq": 64, "hd": 32, "hw": 16, "ht": 96}.get(width, 0), WIDTHS[width])
    fail(place, f"unknown operand '{word}'")


def is_rm(word):
    """True for words that ModRM.rm encodes."""
    return (word[0] in "ERMWU" and not fixed_register(word)) or word.startswith("vM") or word == "tM" or (
        word[0] in OTHER_FILES and len(word) > 1 and word[1] in "ER" and not fixed_register(word))


class Operation:
    def __init__(self, name, sentence, place):
        self.name, self.sentence, self.place = name, sentence, place
        self.access, self.hidden, self.kind, self.traits, self.note = None, [], "next", [], ""
        self.condition, self.does = -1, None
        self.flags, self.keeps_flags = dict.fromkeys("rwu01", 0), False


class Row:
    pass


def expand_each(lines, conditions):
    """Repeats the lines between `each … in` and `end` for every line of the list, or for the sixteen conditions."""
    result, block, variables, items = [], None, [], []
    for place, line in lines:
        if line.startswith("each "):
            block, items = [], []
            if line.strip() == "each condition":
                variables = ["%flags", "%code", "%cc", "%words", "+cc"]
                items = [[flags, code, name, words, code] for code, name, flags, words in conditions]
            else:
                variables = line.split()[1:-1]
        elif block is not None and line.strip() == "end":
            for item in items:
                for p, text in block:
                    for variable, value in sorted(zip(variables, item), key=lambda x: -len(x[0])):
                        if variable == "+cc":
                            text = re.sub(r"([0-9A-F]{2})\+cc", lambda m: f"{int(m[1], 16) + value:02X}", text)
                        text = text.replace(variable, str(value))
                    result.append((p, text))
            block = None
        elif block is not None and not block and line.startswith("    "):
            items.append(line.split(None, len(variables) - 1))
        elif block is not None:
            block.append((place, line))
        else:
            result.append((place, line))
    return result


def parse_head(words, needs):
    """Space, map and opcode of a row; puts what they ask for into `needs`."""
    space, opmap = "legacy", ""
    head = words[0].split(".")
    if head[0] in ("VEX", "EVEX", "XOP"):
        words.pop(0)
        space, length, pp, opmap, w = head
        needs["pp"] = {PP[pp]}
        if length != "I":
            needs["l"] = {int(c) for c in length}
        elif space == "EVEX":
            needs["l"] = {0, 1, 2}
        if w != "I":
            needs["w"] = {int(w[1])}
    else:
        if words[0] in PP:
            needs["pp"] = {PP[words.pop(0)]}
        elif words[0] == "N6":
            needs["pp"] = {0, 1}
            words.pop(0)
        if words[0] in ("0F", "0F38", "0F3A", "0F0F"):
            opmap = words.pop(0)
    return space, opmap


MANUAL_MAPS = {"M5": "MAP5", "M6": "MAP6", "0F38": "0F 38", "0F3A": "0F 3A", "0F0F": "0F 0F"}
# What an operand adds behind the opcode (Intel SDM volume 2, 3.1.1.1): a code offset, a value, a register.
MANUAL_FIELDS = {"Jb": "cb", "Jz": "cw/cd", "Jv": "cw/cd", "Ap": "cd/cp", "Ib": "ib", "Iw": "iw", "Id": "id", "Nb": "ib",
                 "Iz": "iw/id", "Iv": "iw/id/io", "I4": "ib"}
MANUAL_LENGTHS = {"0": "128", "1": "256", "2": "512"}


def manual_head(word, operands):
    """VEX, EVEX and XOP as the manuals write them (Intel SDM volume 2, 3.1.1.2)."""
    space, length, pp, opmap, w = word.split(".")
    vectors = any(o[0] in "VWUHL" or o.startswith("t") for o in operands if not fixed_register(o))
    if length == "I":
        length = "LIG"
    elif vectors or len(length) > 1 or space != "VEX":
        length = "/".join(MANUAL_LENGTHS[c] for c in length)
    else:  # masks and general registers have no length: its bit is a part of the opcode
        length = "L" + length if any(o[0] == "k" for o in operands) else "LZ" if length == "0" else "L1"
    opmap = opmap if opmap.startswith("0F") else MANUAL_MAPS.get(opmap, opmap)
    return ".".join([space, length, pp, opmap, {"I": "WIG"}.get(w, w)])


def manual_notation(words, operands):
    """A row's encoding in the notation of the processor manuals: `66 68 iw`, `50+rd`, `VEX.128.66.0F.WIG FE /r`."""
    result, wide = [], any(w in ("o64", "W1") for w in words)
    prefix = [{"o16": "66", "a16": "67", "N6": "NFx"}.get(w, w) for w in words
              if w in ("NP", "N6", "66", "F2", "F3", "o16", "a16") and not result]
    for word in words:
        if word.split(".")[0] in ("VEX", "EVEX", "XOP"):
            result.append(manual_head(word, operands))
        elif word in ("0F", "0F38", "0F3A", "0F0F"):
            result.append(MANUAL_MAPS.get(word, word))
        elif re.fullmatch(r"[0-9A-F]{2}\+r", word):
            register = next(o for o in operands if o[0] == "Z" or o[1:2] == "Z" or o.startswith("ST"))
            kind = {"Zb": "rb", "Zw": "rw"}.get(register, "i" if register.startswith("ST") else "rd")
            result.append(word[:-1] + kind)
        elif re.fullmatch(r"[0-9A-F]{2}", word):
            result.append(word)
        elif re.fullmatch(r"/\d:\d", word):
            result.append(f"{0xc0 | int(word[1]) << 3 | int(word[3]):02X}")
        elif word[0] == "/":
            result.append(word)
    # A mandatory prefix stands among the words already; those of sizes stand before all.
    lead = [p for p in prefix if p not in result or p in ("NP", "NFx")]
    by_size = {"Iz": "iw", "Iv": "iw"} if "o16" in words else {"Iz": "id", "Iv": "io"} if wide else {}
    fields = [by_size.get(o, MANUAL_FIELDS[o]) for o in operands if o in MANUAL_FIELDS]
    if any(o[0] == "L" and o not in MANUAL_FIELDS for o in operands):
        fields = ["/is4"]
    mandatory = [result.pop(0)] if result and result[0] in ("66", "F2", "F3") and len(result) > 1 else []
    return " ".join(lead + mandatory + (["REX.W"] if wide and "." not in words[0] else []) + result + fields)


def parse_row(operation, text, place, default_feature):
    left, _, right = text.partition("|")
    words, features = left.split(), right.split()
    needs, name = {}, operation.name
    l_ignored = ".I." in words[0][:7]
    written = list(words)
    space, opmap = parse_head(words, needs)
    opcode = words.pop(0)
    plus_r = opcode.endswith("+r")
    opcode = int(opcode[:-2] if plus_r else opcode, 16)
    modrm, operands, modes, att = opmap == "0F0F", [], {0, 1}, None
    for word in words:
        if word == "/r":
            modrm = True
        elif word[0] == "/":
            digit, _, rm = word[1:].partition(":")
            needs["reg"] = {int(digit)}
            modrm = True
            if rm:
                needs["mod"], needs["rm"] = {1}, {int(rm)}
        elif word in ("o16", "o32", "o64"):
            needs["osize"] = {("o16", "o32", "o64").index(word)}
        elif word in ("a16", "a32", "a64"):
            needs["asize"] = {("a16", "a32", "a64").index(word)}
        elif word in ("m32", "m64"):
            modes = {("m32", "m64").index(word)}
        elif word == "rm0":
            needs["mod"], needs["rm"] = {1}, {0}
        elif word in ("W0", "W1"):
            needs["w"] = {int(word[1])}
        elif word in ("b0", "b1"):
            needs["rexb"] = {int(word[1])}
        elif word[0] == "=":
            name = word[1:]
        elif word.startswith("att:"):
            att = word[4:].rstrip("+")
        else:
            if word[0] == "M" and word != "MXCSR" or word in ("tM",) or word.startswith("vM"):
                needs["mod"] = {0}
            if (word[0] in "RU" and not fixed_register(word)) or (word[0] in OTHER_FILES and word[1] == "R"):
                needs["mod"] = {1}
            if word.startswith("bG"):  # there are four bounds registers
                needs["reg"] = {0, 1, 2, 3}
            if word.startswith("bR"):
                needs["rm"], needs["mod"] = {0, 1, 2, 3}, {1}
            modrm = modrm or is_rm(word)
            if word != "R-":
                operands.append(word)
    rows, encoding = [], manual_notation(written, operands)
    for low in range(8 if plus_r else 1):
        row = Row()
        row.operation, row.name, row.space, row.map, row.place = operation, name, space, opmap, place
        row.opcode, row.needs, row.modes, row.operands, row.att = opcode + low, dict(needs), modes, operands, att
        row.w_only_in_64_bits, row.encoding = False, encoding
        row.rm_free = "R-" in words
        if "anymod" in features:
            row.needs.pop("mod", None)
        row.l_ignored = l_ignored
        row.both_suffixes = any(word.startswith("att:") and word.endswith("+") for word in words)
        row.feature = next((f for f in features if f in FEATURES), default_feature)
        row.features = [f for f in features if f not in FEATURES]
        row.modrm, row.plus_r, row.same_as_first = modrm, plus_r, low > 0
        rows.append(row)
    return rows


def parse(paths):
    lines, conditions = [], []
    for path in paths:
        lines.append((path, "feature none"))
        for number, line in enumerate(open(path, encoding="utf-8"), 1):
            line = line.split("#")[0].rstrip()
            if line.startswith("condition "):
                _, code, name, flags, words = line.split(None, 4)
                conditions.append((int(code, 16), name, flags, words))
            elif line:
                lines.append((f"{path}:{number}", line))
    operations, rows, feature = [], [], "none"
    for place, line in expand_each(lines, conditions):
        if line.startswith("feature "):
            feature = line.split()[1]
            if feature not in FEATURES:
                fail(place, f"unknown feature '{feature}'")
            continue
        if line[0] != " ":
            name, _, sentence = line.partition(":")
            operations.append(Operation(name.strip(), sentence.strip(), place))
            continue
        operation, word = operations[-1], line.split()[0]
        rest = line.strip()[len(word):].strip()
        if word == "access":
            operation.access = [ACCESS[w] for w in rest.replace("|", " ").split()]
        elif word == "hidden":
            operation.hidden = rest.split()
        elif word == "flags":
            for item in rest.split():
                use, _, letters = item.partition("=")
                operation.keeps_flags |= use == "k"
                for letter in letters:
                    operation.flags[use] |= FLAG_BITS[letter]
        elif word == "condition":
            operation.condition = int(rest)
        elif word == "does":
            operation.does = rest
        elif word == "note":
            operation.note = (operation.note + " " + rest).strip()
        elif word == "kind":
            operation.kind = rest
        elif word == "traits":
            operation.traits = rest.split()
        else:
            rows += parse_row(operation, line.strip(), place, feature)
    return operations, rows, sorted(conditions)


def needs_in(row, mode):
    if mode == 1 or not row.w_only_in_64_bits:
        return row.needs
    return {key: value for key, value in row.needs.items() if key != "w"}


class Tree:
    """Decision trees packed into one array. A node says where its children stand (bits 0 to 15), and by which shift and
    mask of the context word one of them is picked (bits 16 to 20, 21 to 23). The first nodes are the rows by number and
    'no instruction' behind them; they lead to themselves."""

    def __init__(self, number, rows):
        self.cells, self.number, self.known = list(range(rows + 1)), number, {}
        self.none = rows

    def build(self, rows):
        """rows: (row, needs still open, precision)"""
        if not rows:
            return self.none
        for dimension, (shift, bits, values) in DIMENSIONS.items():
            if not any(dimension in needs for _, needs, _ in rows):
                continue
            children = []
            for value in range(1 << bits):
                chosen = []
                for row, needs, precision in rows:
                    wanted = needs.get(dimension)
                    if value >= values or (wanted is not None and value not in wanted):
                        continue
                    rest = {k: v for k, v in needs.items() if k != dimension}
                    chosen.append((row, rest, precision + (wanted is not None)))
                best = max((p for _, n, p in chosen if not n), default=-1)
                children.append(self.build(chosen) if best < 0 or any(n for _, n, _ in chosen) else self.leaf(chosen))
            if len(set(children[:values])) == 1:
                return children[0]
            branch = tuple(children)
            if branch not in self.known:
                self.known[branch] = len(self.cells)
                self.cells += branch
            return self.known[branch] | shift << 16 | ((1 << bits) - 1) << 21
        return self.leaf(rows)

    def ask(self, node, answers):
        """The row that a tree leads to, by the answers to its questions: a function from a shift to one."""
        while node >> 21:
            node = self.cells[(node & 0xffff) + (answers(node >> 16 & 31) & node >> 21)]
        return node

    def questions(self, node):
        """The dimensions of all questions that a tree may ask."""
        if not node >> 21:
            return set()
        children = self.cells[node & 0xffff:(node & 0xffff) + (node >> 21) + 1]
        own = next(dimension for dimension, (shift, _, _) in DIMENSIONS.items() if shift == node >> 16 & 31)
        return {own}.union(*map(self.questions, children))

    def leaf(self, rows):
        best = max(precision for _, _, precision in rows)
        winners = [row for row, _, precision in rows if precision == best]
        if len(winners) > 1:
            fail(winners[1].place, f"claims the same bytes as {winners[0].place}")
        return self.number[id(winners[0])]


def immediates_of(row):
    fields = []
    for w in row.operands:
        if fixed_register(w):
            continue
        if w[0] == "L":
            fields.append("bytes1")
        elif (w[0], w[1:]) in IMMEDIATES:
            fields.append(IMMEDIATES[(w[0], w[1:])])
    return fields + ["none"] * (2 - len(fields))


def shape_of(row, kinds, fields, traits):
    """What the decoder must know of a row, packed into one word: see Shape in decoder.cpp."""
    names = ["none", "bytes1", "bytes2", "bytes4", "operand32", "operand", "branch", "far", "address"]
    shape = names.index(fields[0]) | (fields[1] == "bytes1") << 4
    if fields[1] not in ("none", "bytes1"):
        fail(row.place, "a second immediate has one byte")
    def flag(bit, on):
        nonlocal shape
        shape |= int(bool(on)) << bit
    flag(5, row.space == "legacy" and len(row.needs.get("pp", {0})) == 1 and row.needs.get("pp", {0}) != {0})
    flag(8, "near" in traits)
    flag(9, "stack" in traits)
    flag(10, "lock" in traits)
    flag(11, any(k[0] == "vvvv" for k in kinds))
    for i, name in enumerate(VECTOR[:5]):
        flag(12 + i, name in row.features)
    flag(16, "sae" in row.features or "exact" in row.features)
    elements = {"b16": 1, "b32": 2, "b64": 3}
    element = next((elements[f] for f in row.features if f in elements), 0)
    shape |= element << 17
    memory = next((k for k in kinds if k[0] in ("rm", "gather")), None)
    scaled = next((int(f[1:]) // 8 for f in row.features if re.fullmatch(r"n\d+", f)), None)
    by_length = memory is not None and memory[4].startswith("vector") and scaled is None
    scale = scaled or BYTES.get(memory[4] if memory else "", 1)
    shape |= (scale.bit_length() - 1) << 19
    flag(23, by_length)
    flag(24, memory is not None and (memory[0] == "gather" or "tM" in row.operands))
    flag(25, kinds and kinds[0][0] in ("rm", "gather"))
    flag(26, "norip" in row.features or "tM" in row.operands)
    flag(27, row.space == "EVEX" and any(k[:2] == ("reg", "general") for k in kinds))
    flag(28, memory is not None and memory[0] == "gather" or "distinct" in traits)
    small = ("mask", "tile")
    flag(29, any(k[0] == "reg" and k[1] in small for k in kinds))
    flag(30, any(k[0] == "vvvv" and k[1] in small for k in kinds))
    flag(31, any(k[0] == "rm" and k[1] == "tile" for k in kinds))
    return shape


def mask_element(row):
    """Bytes of the elements that a mask bit each stands for, by the mnemonic; 0 without a mask. Conversions name what
    they give, and what works on smaller places than it is broadcast by names those too."""
    if row.space != "EVEX" or not {"mask", "needmask"} & set(row.features):
        return 0
    given = next((int(f[1:]) // 8 for f in row.features if re.fullmatch(r"n\d+", f)), None)
    if given:
        return given
    converted = re.match(r"vcvt.*2u?(\w+?)x?$", row.name)
    name = converted[1] if converted else re.sub(r"x\d$", "", row.name)
    if name == "dq" or name.startswith("vpunpck"):
        return 4 if name == "dq" else {"b": 1, "w": 2, "d": 4, "q": 8}[name[8]]
    if name[-2:].isdigit() or name[-1].isdigit():
        return int(re.search(r"\d+$", name)[0]) // 8
    if name.startswith(("vmovs", "vmovd")) and name.endswith("dup"):
        return 8 if name == "vmovddup" else 4
    if re.search("c[ps]h$", name) and row.name.startswith("vf") and "class" not in name:
        return 4  # pairs of 16-bit floats
    if name in ("vpdpbusds", "vpdpwssds", "vp4dpwssds", "vpalignr"):
        return 1 if name == "vpalignr" else 4
    if name[-2:] in ("ps", "pd", "ph", "ss", "sd", "sh") and (not name.startswith("vp") or "perm" in name):
        return {"s": 4, "d": 8, "h": 2}[name[-1]]
    if name[-1] not in "bwdq":
        fail(row.place, "no element is known for its mask")
    return {"b": 1, "w": 2, "d": 4, "q": 8}[name[-1]]


VARIABLE = ("operand", "operand32", "rexw")


def exchanged(kinds):
    """The operands with the roles of ModRM.rm and ModRM.reg exchanged, as a key for the row that says the same."""
    other = {"rm": "reg", "reg": "rm"}
    return tuple((other.get(source, source), file, width) for source, file, _, _, width in kinds)


def hints_of(row, kinds, hidden, traits, families):
    """The Hint bits of table.h by name."""
    shown = kinds[:len(kinds) - hidden]
    hints = set()
    rm = next((k for k in shown if k[0] in ("rm", "gather")), None)
    registers = [k for k in shown if k[0] in ("rm", "reg", "opcode", "vvvv", "fixed")]
    widths = {k[4] for k in registers if k[1] in ("general", "none")}
    if rm and row.needs.get("mod") != {0} and shown[0][0] in ("rm", "reg"):
        if exchanged(shown) in families["pairs"].get((row.name, row.space, row.map), ()):
            hints.add("Load" if shown[0][0] == "reg" else "Store")
    if row.space in ("VEX", "XOP") and rm and row.needs.get("w") and row.needs.get("mod") is None:
        # Two rows differ in which of two operands may be memory; with registers only, assemblers take one of them.
        sources = sorted(k[0] for k in shown)
        twin = any(w != row.needs["w"] and sources == s for w, s in families["w"].get((row.name, row.space), ()))
        if twin and row.needs["w"] != ({1} if row.feature == "fma4" else {0}):
            hints.add("RegistersElsewhere")
    if "osize" in row.needs:
        hints.add("SizeInName")
    if widths & {"operand", "operand32", "operand_twice", "far_pointer"}:
        hints.add("OperandSize")
    if ("w" in row.needs or row.needs.get("osize") == {2} or
            widths & {"operand", "rexw", "operand_twice", "far_pointer"} and not traits & {"near", "stack"}):
        hints.add("W")
    if row.space == "VEX" and "W" not in hints:
        hints.add("WIgnored")
    if row.rm_free:
        hints.add("RmFree")
    if row.space != "legacy" and row.needs.get("w") == {0}:
        hints.add("WZero")
    if "asize" in row.needs or any(k[4] == "address" for k in shown):
        hints.add("AddressSize")
    if row.space in ("VEX", "EVEX") and row.l_ignored:
        hints.add("LIgnored")
    hints |= shorter_forms(row, families)
    if row.modrm and "reg" not in row.needs and not any(k[0] in ("reg", "at_reg") for k in kinds):
        hints.add("RegFree")
    if row.both_suffixes:
        hints.add("BothSuffixes")
    elif rm and rm[1] in ("general", "none") and row.name in families["variable"] | families["b32 b64"] and not traits & {"near"}:
        sized = any(k[1] == "general" and k is not rm and not (k[0] == "fixed" and k[2] == 1) for k in registers)
        by_row = rm[4] in ("b32", "b64") and row.name in families["b32 b64"]
        if (rm[4] in VARIABLE or rm[4] == "b8" or by_row) and (not sized or row.name == "crc32"):
            hints.add("Suffix")
    if row.feature == "x87" and rm and row.needs.get("mod") == {0}:
        if row.name.startswith("fi"):
            hints.add("IntegerSuffix")
        elif rm[4] in ("b32", "b64", "b80") and not row.name.startswith("fb"):
            hints.add("FloatSuffix")
    if row.name == "fisttp":
        hints.add("IntegerSuffix")
    if rm and row.space != "legacy" and rm[1] == "vector" and rm[4] == "vector" and len(row.needs.get("l", "01")) > 1:
        if not any(k is not rm and k[1] == "vector" and k[4] == "vector" for k in registers):
            hints.add("LengthSuffix")
    if row.name == "bound":
        hints.add("KeepsOrder")
    if row.space == "EVEX" and row.name in families["VEX"]:
        hints.add("AlsoVex")
    if row.space == "VEX" and row.feature in ("avxvnni", "avxifma", "avxneconvert") and row.name in families["EVEX"]:
        hints.add("AlsoEvex")
    return hints


def shorter_forms(row, families):
    """Which shorter encodings assemblers choose instead of this row."""
    words, hints = row.operands, set()
    if row.space != "legacy" or not words:
        return hints
    forms = families["forms"].get(row.name, ())
    alike = lambda first, rest: any(f[0] == first and f[1:] == rest and m & row.modes for f, m in forms)
    rest, width = tuple(words[1:]), words[0][1:]
    accumulator = {"Gb": "AL", "Gv": "rAX"}
    if len(words) == 2 and {words[0][0], words[1][0]} == {"E", "G"}:
        moved = tuple(accumulator.get(w, "O" + w[1]) for w in words)
        if alike(moved[0], moved[1:]):
            hints.add("AbsoluteElsewhere")
    if words == ["fR", "ST0"] and alike("ST0", ("fR",)):
        hints.add("TopElsewhere")
    if words[0] in ("Eb", "Ev"):
        if alike("Z" + width, rest) or rest == ("Iz",) and alike("Zv", ("Iv",)) or (
                rest == ("Gv",) and alike("Zv", ("rAX",))):
            hints.add("ShortRegister")
            if not any(f[0][0] == "Z" and 1 in m for f, m in forms):
                hints.add("ShortIn32Bits")
        if alike("AL" if width == "b" else "rAX", rest):
            hints.add("ShortAccumulator")
    if words[-1] == "Iz" and alike(words[0], tuple(words[1:-1]) + ("Nb",)) or (
            words[-1] == "Iz" and words[0] == "rAX" and alike("Ev", ("Nb",))):
        hints.add("ShortImmediate")
    if words == ["Iz"] and alike("Nb", ()):
        hints.add("ShortImmediate")
    if words[-1] == "Ib" and alike(words[0], tuple(words[1:-1]) + ("1",)):
        hints.add("ShortOne")
    return hints


HINTS = ["Load", "Store", "SizeInName", "Suffix", "BothSuffixes", "LengthSuffix", "FloatSuffix", "KeepsOrder",
         "AlsoVex", "AlsoEvex", "OperandSize", "W", "WIgnored", "IntegerSuffix", "AddressSize", "LIgnored",
         "ShortRegister", "ShortAccumulator", "ShortImmediate", "ShortOne", "RegFree", "RegistersElsewhere", "WZero", "RmFree", "ShortIn32Bits", "AbsoluteElsewhere",
         "TopElsewhere"]


def families_of(rows):
    """What is asked of all rows of a mnemonic together."""
    families = {"VEX": set(), "EVEX": set(), "legacy": set(), "XOP": set(), "variable": set(), "b32": set(), "b64": set(), "pairs": {}, "forms": {}, "w": {}}
    for row in rows:
        families[row.space].add(row.name)
        kinds = [operand_kind(word, row.place) for word in row.operands]
        if any(k[0] == "rm" and k[4] in VARIABLE for k in kinds):
            families["variable"].add(row.name)
        if row.needs.get("w") and ("is4" in [k[0] for k in kinds] or row.space == "XOP"):
            families["w"].setdefault((row.name, row.space), []).append((row.needs["w"], sorted(k[0] for k in kinds)))
        for kind in kinds:
            if kind[:2] == ("rm", "general") and kind[4] in ("b32", "b64") and row.needs.get("mod") is None:
                families[kind[4]].add(row.name)
        if row.operands:
            families["forms"].setdefault(row.name, []).append((tuple(row.operands), row.modes))
        families["pairs"].setdefault((row.name, row.space, row.map), set()).add(
            tuple((source, file, width) for source, file, _, _, width in kinds))
    families["b32 b64"] = families.pop("b32") & families.pop("b64")
    return families


def restrict_modes(rows):
    """What only REX or the address size of one mode gives exists in that mode only."""
    for row in rows:
        if row.space == "legacy" and ({1} in (row.needs.get("w"), row.needs.get("rexb")) or
                                      row.needs.get("osize") == {2}) or row.needs.get("asize") == {2}:
            row.modes = row.modes & {1}
        if row.needs.get("asize") == {0}:
            row.modes = row.modes & {0}


def ignore_w_in_32_bits(rows):
    """Outside 64-bit mode W does not widen general registers (Intel SDM volume 2, 2.3.6): there the row with W=1 does
    not exist, and the one with W=0 holds for both. Moves of masks with 64 bits are invalid instead."""
    wide = set()
    for row in rows:
        if row.space != "legacy" and row.needs.get("w") == {1} and any(re.fullmatch("[ERGB]q", w) for w in row.operands):
            row.modes = row.modes & {1}
            if not any(w[0] == "k" for w in row.operands):
                wide.add((row.space, row.map, row.opcode, tuple(row.needs.get("pp", ()))))
    for row in rows:
        if row.needs.get("w") == {0} and (row.space, row.map, row.opcode, tuple(row.needs.get("pp", ()))) in wide:
            row.w_only_in_64_bits = True


FIELD_BYTES = {"none": (0, 0, 0), "bytes1": (1, 1, 1), "bytes2": (2, 2, 2), "bytes4": (4, 4, 4),
               "operand32": (2, 4, 4), "operand": (2, 4, 8), "far": (4, 6, 6)}


def lengths_of(cell, mode):
    """Bytes of immediates for each raw operand size, when all rows of an opcode agree; else the mark that the row must
    be asked. kFieldBytes in decoder.cpp says the same by row."""
    answers = set()
    for row in cell:
        traits, answer = row.operation.traits, [0, 0, 0]
        if immediates_of(row)[1] != "none":
            return 1 << 13
        for field in immediates_of(row):
            if field == "address":
                return 1 << 13
            for i in range(3):
                size = i
                if mode == 1 and "near" in traits:
                    size = 2
                if mode == 1 and "stack" in traits and i == 1:
                    size = 2
                if field == "branch":
                    answer[i] += 2 if size == 0 else 4
                else:
                    answer[i] += FIELD_BYTES[field][size]
        answers.add(tuple(answer))
    if len(answers) != 1:
        return 1 << 13
    answer = answers.pop()
    return answer[0] | answer[1] << 4 | answer[2] << 8


class Quick:
    """The first two opcode maps once more, for the decoder's quick way: what it knows besides the opcode are 13 bits;
    those of them that matter to an opcode, put together, are a place in its list of rows."""
    BITS = {"rm": 0x7, "reg": 0x38, "mod": 0xc0, "pp": 0x300, "w": 0x400, "rexb": 0x800, "osize": 0x1400}
    NOT_QUICK, BY_ROW = 1 << 63, 1 << 62

    def __init__(self, tree, mode):
        self.tree, self.mode, self.rows, self.known = tree, mode, [], {}

    def answers(self, bits):
        """What the trees are told, as a function from a shift to an answer."""
        wide, narrow = bits >> 10 & 1, bits >> 12 & 1
        known = {"rm": bits & 7, "reg": bits >> 3 & 7, "mod": int(bits >> 6 & 3 == 3), "pp": bits >> 8 & 3, "w": wide,
                 "rexb": bits >> 11 & 1, "osize": 2 if wide else 1 - narrow, "asize": 1 + self.mode, "l": 0}
        return {shift: known[dimension] for dimension, (shift, _, _) in DIMENSIONS.items()}.__getitem__

    def list_of(self, root):
        """Which bits matter, and where the list begins."""
        mask, bits, rows = 0, 0, []
        for dimension in self.tree.questions(root) & self.BITS.keys():
            mask |= self.BITS[dimension]
        while not rows or bits:
            rows.append(self.tree.ask(root, self.answers(bits)))
            bits = (bits | ~mask) + 1 & mask
        key = tuple(rows)
        if key not in self.known:
            self.known[key] = len(self.rows)
            self.rows += rows
        return mask, self.known[key]

    def cell(self, word, rows):
        """QuickCell of quick_decoder.cpp, of an opcode that the other ways know as this cell."""
        mask, at = self.list_of(word & 0xffffffff)
        small, usual, large = (word >> shift & 15 for shift in (32, 36, 40))
        by_row, any_mod = word >> 45 & 1, word >> 46 & 1
        simple = not any({"near", "stack"} & set(row.operation.traits) or
                         immediates_of(row)[1] != "none" or immediates_of(row)[0] == "address" for row in rows)
        quick = not any_mod and (not by_row or simple)
        if by_row:
            small = usual = large = 0
        return ((word >> 44 & 1) * 0x77 | usual << 8 | small << 12 | large << 16 | mask << 20 | at << 33 |
                (0 if quick else self.NOT_QUICK) | (self.NOT_QUICK | self.BY_ROW if by_row and quick else 0))


def cpp_string(text):
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def sharing(used, fields, traits):
    """How the row's instructions share a form: Sharing of table.h, by number."""
    sources = {kind[0] for kind in used}
    if fields[1] != "none" or "gate" in traits or sources & {"is4", "immediate_low4", "enter", "display", "far"}:
        return 3
    registers = [kind for kind in used if kind[0] in ("rm", "reg", "opcode", "vvvv")]
    if sources & {"gather", "at_reg"} or traits & {"bitoffset", "four", "pair"} or any(
            kind[1] not in ("none", "general", "vector") for kind in registers):
        return 2
    return int(any(kind[1] == "general" and kind[4] == "b8" or kind[0] == "opcode" for kind in registers))


def main():
    table, quick_table, inputs = sys.argv[1], sys.argv[2], sys.argv[3:]
    operations, rows, conditions = parse(inputs)
    restrict_modes(rows)
    ignore_w_in_32_bits(rows)
    kinds, kind_number, pool, row_lines, shapes, briefs, number = [], {}, [], [], [], [], {}
    for i, operation in enumerate(operations):
        operation.number = i
    names = sorted({row.name for row in rows} | {row.att for row in rows if row.att})
    name_number = {name: i for i, name in enumerate(names)}
    encodings = sorted({row.encoding for row in rows})
    encoding_number = {text: i for i, text in enumerate(encodings)}
    pools, families = {}, families_of(rows)
    for row in rows:
        if row.same_as_first:
            number[id(row)] = len(row_lines) - 1
            continue
        words = row.operands + row.operation.hidden
        access = row.operation.access
        if access is None:
            access = [ACCESS["w"]] + [ACCESS["r"]] * (len(words) - 1) if words else []
        if len(words) != len(access):
            fail(row.place, f"{len(words)} operands but {len(access)} accesses")
        used = [operand_kind(word, row.place) for word in words]
        uses = []
        for kind, how in zip(used, access):
            if kind not in kind_number:
                kind_number[kind] = len(kinds)
                kinds.append(kind)
            uses.append((kind_number[kind], how))
        if tuple(uses) not in pools:
            pools[tuple(uses)] = len(pool)
            pool += uses
        fields = immediates_of(row)
        traits = set(row.operation.traits) | {f for f in row.features if f in TRAITS}
        if row.space == "legacy" and row.operands and row.operands[0][0] == "m":
            traits.discard("aligned")  # mmx forms of operations on 128 bits
        unknown = [f for f in row.features if f not in TRAITS + VECTOR + ["b16", "b32", "b64"]
                   and not re.fullmatch(r"n\d+", f)]
        if unknown:
            fail(row.place, f"unknown feature '{unknown[0]}'")
        bits = sum(1 << TRAITS.index(t) for t in traits)
        number[id(row)] = len(row_lines)
        shapes.append(shape_of(row, used, fields, traits))
        briefs.append(KINDS.index(row.operation.kind) | ("gate" in traits) << 3 |
                      bool(used and used[0][0] == "relative") << 4 | any(k[0] == "absolute" for k in used) << 5 |
                      sharing(used, fields, traits) << 6)
        memory = {(0,): 1, (1,): 2}.get(tuple(row.needs.get("mod", ())), 0)
        wanted = hints_of(row, used, len(row.operation.hidden), traits, families)
        hints = sum(1 << HINTS.index(hint) for hint in wanted)
        att = name_number[row.att] if row.att else name_number[row.name]
        row_lines.append(
            f"    {{{row.operation.number}, {name_number[row.name]}, {att}, {pools[tuple(uses)]}, {len(row.operands)}, "
            f"{len(words)}, {{Field::{fields[0]}, Field::{fields[1]}}}, {bits:#x}U, {FEATURES.index(row.feature)}, "
            f"{MAPS[(row.space, row.map)]}, {row.opcode:#x}, {shapes[-1] >> 17 & 3}, {mask_element(row)}, {sum(1 << m for m in row.modes)}, {memory}, {encoding_number[row.encoding]}, "
            f"Rounding::{'mode' if 'er' in row.features else 'ignored' if 'exact' in row.features else 'suppress'}, {hints:#x}}},  // {row.name}  {row.place.split('/')[-1]}")
    tree = Tree(number, len(row_lines))
    cell_words = [[[tree.none] * 256 for _ in MAPS] for _ in range(2)]
    cells = {}
    for row in rows:
        cells.setdefault((MAPS[(row.space, row.map)], row.opcode), []).append(row)
    for mode in range(2):
        for (opmap, opcode), all_rows in sorted(cells.items()):
            cell = [row for row in all_rows if mode in row.modes]
            if not cell:
                continue
            if len({r.modrm for r in cell}) != 1:
                fail(cell[0].place, "disagrees about ModRM with rows of its opcode: " + " ".join(r.place for r in cell[1:]))
            root = tree.build([(row, needs_in(row, mode), 1 if len(row.modes) == 1 else 0) for row in cell])
            cell_words[mode][opmap][opcode] = root | lengths_of(cell, mode) << 32 | int(cell[0].modrm) << 44
            cell_words[mode][opmap][opcode] |= int("anymod" in cell[0].features) << 46
    quick = [Quick(tree, mode) for mode in range(2)]
    quick_cells = [[[quick[mode].cell(word, [row for row in cells.get((opmap, opcode), ()) if mode in row.modes])
                     for opcode, word in enumerate(cell_words[mode][opmap])] for opmap in range(2)] for mode in range(2)]
    if len(tree.cells) >= 0x10000:
        fail(inputs[0], "the decision trees have outgrown their numbers")
    with open(table, "w", encoding="utf-8") as out:
        out.write("// Generated by generate_table.py from the .isa files; do not edit.\n")
        out.write("constexpr std::string_view kMnemonics[] = {\n")
        for name in names:
            out.write(f"    {cpp_string(name)},\n")
        out.write("};\n\nconstexpr std::string_view kFeatures[] = {\n")
        for name in FEATURES:
            out.write(f"    {cpp_string(name)},\n")
        out.write("};\n\nconstexpr Condition kConditions[] = {\n")
        for _, name, flags, words in conditions:
            mask = sum(FLAG_BITS[letter] for letter in flags.partition("=")[2])
            out.write(f"    {{{cpp_string(name)}, {cpp_string(words)}, {mask:#x}}},\n")
        out.write("};\n\nconstexpr std::string_view kEncodings[] = {\n")
        for text in encodings:
            out.write(f"    {cpp_string(text)},\n")
        out.write("};\n\nconstexpr Operation kOperations[] = {\n")
        for o in operations:
            f = o.flags
            out.write(f"    {{{cpp_string(o.name)}, {cpp_string(o.sentence)}, {cpp_string(o.note)}, ControlFlow::{o.kind + '_' if o.kind == 'return' else o.kind}, "
                      f"{{{f['r']:#x}, {f['w']:#x}, {f['u']:#x}, {f['0']:#x}, {f['1']:#x}, {str(o.keeps_flags).lower()}}}, {o.condition}, {'meaning::' + o.does if o.does else 'nullptr'}}},\n")
        out.write("};\n\nconstexpr OperandKind kOperandKinds[] = {\n")
        for source, file, index, offset, width in kinds:
            out.write(f"    {{Source::{source}, RegisterFile::{file}, {index}, {offset}, Width::{width}}},\n")
        out.write("};\n\nconstexpr OperandUse kOperandUses[] = {\n")
        for kind, access in pool:
            out.write(f"    {{{kind}, Access({access})}},\n")
        out.write("};\n\nconstexpr Row kRows[] = {\n" + "\n".join(row_lines) + "\n};\n\n")
        out.write(f"constexpr std::uint32_t kShapes[] = {{\n    {', '.join(f'{s:#x}' for s in shapes + [1 << 26])}\n}};\n\n")
        out.write(f"extern const std::uint8_t kBriefs[] = {{\n    {', '.join(f'{b:#x}' for b in briefs)}\n}};\n\n")
        out.write(f"constexpr std::uint32_t kNodes[] = {{\n    {', '.join(map(hex, tree.cells))}\n}};\n\n")
        out.write(f"constexpr std::uint64_t kCells[2][{len(MAPS)}][256] = {{\n")
        for mode in cell_words:
            out.write("  {" + ",\n   ".join("{" + ",".join(map(hex, m)) + "}" for m in mode) + "},\n")
        out.write("};\n\n")
    listed = [i | (shape >> 5 & 1) << 16 | (shape >> 9 & 1) << 17 | (shape >> 8 & 1) << 18 | (shape >> 26 & 1) << 19
              for i, shape in enumerate(shapes + [1 << 26])]
    with open(quick_table, "w", encoding="utf-8") as out:
        out.write("// Generated by generate_table.py from the .isa files; do not edit.\n")
        out.write("constexpr std::uint64_t kQuickCells[2][2][256] = {\n")
        for mode in quick_cells:
            out.write("  {" + ",\n   ".join("{" + ",".join(map(hex, m)) + "}" for m in mode) + "},\n")
        out.write("};\n\n")
        for bits, mode in zip((32, 64), quick):
            words = ", ".join(hex(listed[row]) for row in mode.rows)
            out.write(f"constexpr std::uint32_t kQuickRows{bits}[] = {{\n    {words}\n}};\n\n")


main()
