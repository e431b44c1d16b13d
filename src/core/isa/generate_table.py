#!/usr/bin/env python3
"""Turns the instruction-set files (*.isa; the notation is explained at the top of x86.isa) into the C++
tables of isa/table.h: operations, encoding rows, operand kinds and the decision trees of the decoder.

usage: generate_table.py OUTPUT.inc INPUT.isa…

Refuses a table in which two rows claim the same bytes with the same precision."""
import re
import sys

DIMENSIONS = {  # selector name -> number of branches; the order is the order of the questions
    "mode": 2, "pp": 4, "mod": 2, "reg": 8, "rm": 8, "w": 2, "l": 4, "osize": 3, "asize": 3, "rexb": 2,
}
MAPS = {"": 0, "0F": 1, "0F38": 2, "0F3A": 3}
SPACES = {"legacy": 0, "VEX": 1, "EVEX": 2, "XOP": 3}
PP = {"NP": 0, "66": 1, "F3": 2, "F2": 3}
FLAG_BITS = {"c": 0x1, "p": 0x4, "a": 0x10, "z": 0x40, "s": 0x80, "i": 0x200, "d": 0x400, "o": 0x800}
TRAITS = ["faults", "privileged", "nondeterministic", "shadow", "bitoffset", "rep", "repz", "stack", "near",
          "gate", "serializing", "aligned", "float", "lock", "flagimage"]
KINDS = ["next", "jump", "conditional", "call", "return", "trap", "system"]
ACCESS = {"-": 0, "r": 1, "w": 2, "rw": 3, "c": 6, "cr": 7}  # bit 0 read, bit 1 written, bit 2 only perhaps

GPR = ["AX", "CX", "DX", "BX", "SP", "BP", "SI", "DI"]
WIDTHS = {"b": "b8", "w": "b16", "d": "b32", "q": "b64", "dq": "b128", "ss": "b32", "sd": "b64", "hq": "high64",
          "v": "operand", "z": "operand32", "y": "rexw", "p": "far_pointer", "s": "table_register",
          "n": "native", "v2": "operand_twice", "dw": "low16_of_32", "-": "none"}
LETTERS = {  # letter -> (source, register file)
    "E": ("rm", "general"), "R": ("rm", "general"), "M": ("rm", "general"), "G": ("reg", "general"),
    "Z": ("opcode", "general"), "B": ("vvvv", "general"), "S": ("reg", "segment"), "C": ("reg", "control"),
    "D": ("reg", "debug"), "V": ("reg", "vector"), "W": ("rm", "vector"), "U": ("rm", "vector"),
    "H": ("vvvv", "vector"), "I": ("immediate", "none"), "N": ("immediate_signed", "none"),
    "J": ("relative", "none"), "O": ("absolute", "none"), "A": ("far", "none"),
    "X": ("string_source", "none"), "Y": ("string_destination", "none"),
}
IMMEDIATES = {("I", "b"): "bytes1", ("I", "w"): "bytes2", ("I", "z"): "operand32", ("I", "v"): "operand",
              ("N", "b"): "bytes1", ("J", "b"): "bytes1", ("J", "z"): "branch", ("A", "p"): "far",
              ("O", "b"): "address", ("O", "v"): "address"}


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
    if word == "MXCSR":
        return "mxcsr", 0, 0, "b32"
    return None


def operand_kind(word, place):
    """One operand word as the fields of OperandKind: source, file, index, offset, width."""
    register = fixed_register(word)
    if register:
        return ("fixed", register[0], register[1], register[2], register[3])
    if word == "1":
        return ("one", "none", 1, 0, "b8")
    stack = re.fullmatch(r"(push|pop)(\d?)", word)
    if stack:
        return (stack[1], "none", int(stack[2] or 1), 0, "stack_slots")
    if word in ("enter", "leave"):
        return (word, "none", 1, 0, "stack_slots")
    if word == "xlat":
        return ("xlat", "none", 0, 0, "b8")
    letter, width = word[0], word[1:]
    if letter in LETTERS and width in WIDTHS:
        source, file = LETTERS[letter]
        return (source, file, 0, 64 if width == "hq" else 0, WIDTHS[width])
    fail(place, f"unknown operand '{word}'")


class Operation:
    def __init__(self, name, sentence, place):
        self.name, self.sentence, self.place = name, sentence, place
        self.access, self.hidden, self.kind, self.traits = [], [], "next", []
        self.flags = dict.fromkeys("rwu01", 0)


class Row:
    def __init__(self, operation, name, space, opmap, opcode, needs, operands, features, place):
        self.operation, self.name, self.space, self.map, self.opcode = operation, name, space, opmap, opcode
        self.needs, self.operands, self.features, self.place = needs, operands, features, place
        self.modrm = any(d in needs for d in ("mod", "reg", "rm")) or any(
            w[0] in "EGRMSCDVWU" and w not in GPR and not fixed_register(w) for w in operands)


def expand_each(lines, conditions):
    """Repeats the lines between `each condition` and `end` for the sixteen conditions."""
    result, block, inside = [], [], False
    for place, line in lines:
        if line.strip() == "each condition":
            inside, block = True, []
        elif line.strip() == "end":
            inside = False
            for code, name, flags, words in conditions:
                for p, text in block:
                    text = text.replace("%cc", name).replace("%words", words).replace("%flags", flags)
                    text = re.sub(r"([0-9A-F]{2})\+cc", lambda m: f"{int(m[1], 16) + code:02X}", text)
                    result.append((p, text))
        elif inside:
            block.append((place, line))
        else:
            result.append((place, line))
    return result


def parse_row(operation, text, place):
    words, _, features = text.partition("|")
    words, features = words.split(), features.split()
    needs, name, space, opmap = {}, operation.name, "legacy", ""
    plus_r = False
    if words[0].startswith("VEX."):
        _, length, pp, opmap, w = words.pop(0).split(".")
        space = "VEX"
        needs["pp"] = PP[pp]
        if length != "I":
            needs["l"] = int(length)
        if w != "I":
            needs["w"] = int(w)
    else:
        if words[0] in PP:
            needs["pp"] = PP[words.pop(0)]
        if words[0] in ("0F", "0F38", "0F3A"):
            opmap = words.pop(0)
    opcode = words.pop(0)
    if opcode.endswith("+r"):
        plus_r, opcode = True, opcode[:-2]
    opcode = int(opcode, 16)
    modrm = False
    operands = []
    for word in words:
        if word == "/r":
            modrm = True
        elif word[0] == "/":
            digit, _, rm = word[1:].partition(":")
            needs["reg"] = int(digit)
            if rm:
                needs["mod"], needs["rm"] = 1, int(rm)
        elif word in ("o16", "o32", "o64"):
            needs["osize"] = ("o16", "o32", "o64").index(word)
        elif word in ("a16", "a32", "a64"):
            needs["asize"] = ("a16", "a32", "a64").index(word)
        elif word in ("m32", "m64"):
            needs["mode"] = ("m32", "m64").index(word)
        elif word in ("W0", "W1"):
            needs["w"] = int(word[1])
        elif word in ("b0", "b1"):
            needs["rexb"] = int(word[1])
        elif word[0] == "=":
            name = word[1:]
        else:
            if word[0] == "M" and word != "MXCSR":
                needs["mod"] = 0
            if word[0] in "RU" and word not in ("RAX",) and not fixed_register(word):
                needs["mod"] = 1
            if word != "R-":
                operands.append(word)
    rows = []
    for low in range(8 if plus_r else 1):
        row = Row(operation, name, space, opmap, opcode + low, dict(needs), operands, features, place)
        row.modrm = row.modrm or modrm
        row.plus_r, row.same_as_first = plus_r, low > 0
        rows.append(row)
    return rows


def parse(paths):
    lines, conditions = [], []
    for path in paths:
        for number, line in enumerate(open(path, encoding="utf-8"), 1):
            line = line.split("#")[0].rstrip()
            if line.startswith("condition "):
                _, code, name, flags, words = line.split(None, 4)
                conditions.append((int(code, 16), name, flags, words))
            elif line:
                lines.append((f"{path}:{number}", line))
    operations, rows = [], []
    for place, line in expand_each(lines, conditions):
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
                for letter in letters:
                    operation.flags[use] |= FLAG_BITS[letter]
        elif word == "kind":
            operation.kind = rest
        elif word == "traits":
            operation.traits = rest.split()
        else:
            rows += parse_row(operation, line.strip(), place)
    return operations, rows


class Tree:
    """Decision trees packed into one array: node values below 0x8000 are rows, 0xffff is 'no instruction',
    others point at a branch: the selector's number, then one node a value."""

    def __init__(self):
        self.cells = []

    def build(self, rows, number):
        if not rows:
            return 0xFFFF
        for selector, (dimension, branches) in enumerate(DIMENSIONS.items()):
            if not any(dimension in row.needs for row in rows):
                continue
            children = []
            for value in range(branches):
                exact = [r for r in rows if r.needs.get(dimension) == value]
                open_rows = [r for r in rows if dimension not in r.needs]
                chosen = []
                for row in exact + open_rows:
                    copy = Row.__new__(Row)
                    copy.__dict__.update(row.__dict__)
                    copy.needs = {k: v for k, v in row.needs.items() if k != dimension}
                    copy.precision = getattr(row, "precision", 0) + (1 if row in exact else 0)
                    chosen.append(copy)
                children.append(self.build(chosen, number))
            if len(set(children)) == 1:
                return children[0]
            at = len(self.cells)
            self.cells += [selector] + children
            return 0x8000 | at
        best = max(getattr(r, "precision", 0) for r in rows)
        winners = [r for r in rows if getattr(r, "precision", 0) == best]
        if len(winners) > 1:
            fail(winners[1].place, f"claims the same bytes as {winners[0].place}")
        return number[winners[0].key]


def cpp_string(text):
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def main():
    output, inputs = sys.argv[1], sys.argv[2:]
    operations, rows = parse(inputs)
    kinds, kind_number, pool, row_lines, number = [], {}, [], [], {}
    for i, operation in enumerate(operations):
        operation.number = i
    names = sorted({row.name for row in rows})
    for row in rows:
        row.key = id(row)
        if row.same_as_first:
            number[row.key] = len(row_lines) - 1
            continue
        words = row.operands + row.operation.hidden
        if len(words) != len(row.operation.access):
            fail(row.place, f"{len(words)} operands but {len(row.operation.access)} accesses")
        at = len(pool)
        for word, access in zip(words, row.operation.access):
            kind = operand_kind(word, row.place)
            if kind not in kind_number:
                kind_number[kind] = len(kinds)
                kinds.append(kind)
            pool.append((kind_number[kind], access))
        immediates = [IMMEDIATES[(w[0], w[1:])] for w in row.operands
                      if w[0] in "INJOA" and (w[0], w[1:]) in IMMEDIATES and not fixed_register(w)]
        immediates += ["none"] * (2 - len(immediates))
        traits = sorted(set(row.operation.traits + row.features), key=TRAITS.index)
        bits = sum(1 << TRAITS.index(t) for t in traits)
        number[row.key] = len(row_lines)
        row_lines.append(
            f"    {{{row.operation.number}, {names.index(row.name)}, {at}, {len(row.operands)}, {len(words)}, "
            f"{{Field::{immediates[0]}, Field::{immediates[1]}}}, {bits:#x}}},  // {row.name}  {row.place.split('/')[-1]}")
    tree, roots = Tree(), [[[0xFFFF] * 256 for _ in range(4)] for _ in range(4)]
    has_modrm = [[[0] * 256 for _ in range(4)] for _ in range(4)]
    cells = {}
    for row in rows:
        cells.setdefault((SPACES[row.space], MAPS[row.map], row.opcode), []).append(row)
    for (space, opmap, opcode), cell in sorted(cells.items()):
        if len({r.modrm for r in cell}) != 1:
            fail(cell[0].place, "rows of one opcode disagree about ModRM")
        has_modrm[space][opmap][opcode] = int(cell[0].modrm)
        roots[space][opmap][opcode] = tree.build(cell, number)
    with open(output, "w", encoding="utf-8") as out:
        out.write("// Generated by generate_table.py from the .isa files; do not edit.\n")
        out.write("constexpr std::string_view kMnemonics[] = {\n")
        for name in names:
            out.write(f"    {cpp_string(name)},\n")
        out.write("};\n\nconstexpr Operation kOperations[] = {\n")
        for o in operations:
            f = o.flags
            out.write(f"    {{{cpp_string(o.name)}, {cpp_string(o.sentence)}, ControlFlow::{o.kind + '_' if o.kind == 'return' else o.kind}, "
                      f"{{{f['r']:#x}, {f['w']:#x}, {f['u']:#x}, {f['0']:#x}, {f['1']:#x}}}}},\n")
        out.write("};\n\nconstexpr OperandKind kOperandKinds[] = {\n")
        for source, file, index, offset, width in kinds:
            out.write(f"    {{Source::{source}, RegisterFile::{file}, {index}, {offset}, Width::{width}}},\n")
        out.write("};\n\nconstexpr OperandUse kOperandUses[] = {\n")
        for kind, access in pool:
            out.write(f"    {{{kind}, Access({access})}},\n")
        out.write("};\n\nconstexpr Row kRows[] = {\n" + "\n".join(row_lines) + "\n};\n\n")
        out.write(f"constexpr std::uint16_t kTree[] = {{\n    {', '.join(map(str, tree.cells))}\n}};\n\n")
        out.write("constexpr std::uint16_t kRoots[4][4][256] = {\n")
        for space in roots:
            out.write("  {" + ",\n   ".join("{" + ",".join(map(str, m)) + "}" for m in space) + "},\n")
        out.write("};\n\nconstexpr std::uint8_t kHasModrm[4][4][256] = {\n")
        for space in has_modrm:
            out.write("  {" + ",\n   ".join("{" + ",".join(map(str, m)) + "}" for m in space) + "},\n")
        out.write("};\n")


main()
