#!/usr/bin/env python3
"""Turns the instruction-set files (*.isa; the notation is explained at the top of x86.isa) into the C++
tables of isa/table.h: operations, encoding rows, operand kinds and the decision trees of the decoder.

usage: generate_table.py OUTPUT.inc QUICK.inc INPUT.isa…

Refuses a table in which two rows claim the same bytes with the same precision."""
import re
import sys

sys.dont_write_bytecode = True  # the folder may not be ours

from generator.notation import *
from generator.rows import *
from generator.trees import *


def cpp_string(text):
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


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
