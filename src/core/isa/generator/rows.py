"""What the tables say of a row beyond its operands: shapes, hints for the text and the assembler, what its instructions
share."""
from generator import header
from generator.notation import *

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


HINTS = header.bits("Hint", "kHint")


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
