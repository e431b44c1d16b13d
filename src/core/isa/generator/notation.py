"""The notation of the instruction-set files (explained at the top of x86.isa), read into operations and rows."""
import re
import sys

from generator import header

# Opcode maps in the decoder's order.
MAPS = {key: i for i, key in enumerate([
    ("legacy", ""), ("legacy", "0F"), ("legacy", "0F38"), ("legacy", "0F3A"), ("legacy", "0F0F"),
    ("VEX", "0F"), ("VEX", "0F38"), ("VEX", "0F3A"),
    ("EVEX", "0F"), ("EVEX", "0F38"), ("EVEX", "0F3A"), ("EVEX", "M5"), ("EVEX", "M6"),
    ("XOP", "M8"), ("XOP", "M9"), ("XOP", "MA")])}
PP = {"NP": 0, "66": 1, "F3": 2, "F2": 3}
FLAG_BITS = {"c": 0x1, "p": 0x4, "a": 0x10, "z": 0x40, "s": 0x80, "i": 0x200, "d": 0x400, "o": 0x800}
TRAITS = [name.lower() for name in header.bits("Trait", "k")]
VECTOR = ["mask", "zero", "needmask", "er", "sae", "anymod", "exact"]
FEATURES = """none base i686 sse sse2 sse3 ssse3 sse4.1 sse4.2 sse4a mmx 3dnow aes pclmul sha gfni x87 fxsr xsave
xsaveopt xsavec xsaves cx16 movbe popcnt lzcnt bmi1 bmi2 adx fsgsbase rdrand rdseed rdpid rdtscp clflush clflushopt clwb
prefetchw prefetchwt1 prefetchi avx f16c fma avx2 avxvnni avxifma avxvnniint8 avxneconvert vaes vpclmulqdq avx512f
avx512cd avx512er avx512pf avx512dq avx512bw avx5124fmaps avx5124vnniw avx512vpopcntdq avx512ifma avx512vbmi
avx512vbmi2 avx512vnni avx512bitalg avx512bf16 avx512vp2intersect avx512fp16 xop fma4 tbm lwp amxtile amxint8 amxbf16
amxfp16 cmpccxadd raoint keylocker uintr serialize ptwrite cldemote wbnoinvd hreset pconfig sgx smx monitor mwaitx
clzero rdpru mcommit wrmsrns msrlist invpcid vmx svm tdx seves snp invlpgb padlock rtm tsxldtrk pku cet mpx movdiri
movdir64b enqcmd waitpkg""".split()
KINDS = [name.rstrip("_") for name in header.enumerators("ControlFlow")]
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
# What an operand adds after the opcode (Intel SDM volume 2, 3.1.1.1): a code offset, a value, a register.
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
