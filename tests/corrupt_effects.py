#!/usr/bin/env python3
"""Damages what the instruction table says that operands and flags are used for, each kind of damage in all rows at once,
and tells which rows the processor does not see to be wrong. corrupt_rows.py does the same for encodings and names.

usage: corrupt_effects.py [KIND...]      (kinds: unwritten written unread read, and the same with -flags; without any: all)

The release preset must be built: the tests of processor_test.cpp and reads_test.cpp are linked with a damaged table. A row
counts that they judge; those that differ for a reason that KNOWN gives are left out."""
import json
import os
import re
import subprocess
import sys

ROOT = os.path.abspath(os.path.join(os.path.dirname(__file__), ".."))
RELEASE, BUILD = os.path.join(ROOT, "build", "release"), os.path.join(ROOT, "build", "corrupt")
TABLE = os.path.join(RELEASE, "src/generated/isa_table.inc")
# By kind: the tests that see it, and what becomes of an access (bit 0 read, bit 1 written, bit 2 only perhaps).
KINDS = {"unwritten": ("ChangesOnlyWhatTheTableCallsWritten*", lambda a: a & 1 if a & 2 else a),
         "written": ("WhatIsCalledWrittenChanges*", lambda a: a | 2 if a & 3 == 1 else a),
         "unread": ("NothingElseMatters*", lambda a: a & ~5 if a & 3 == 1 else a & ~1),
         "read": ("WhatIsCalledReadMatters", lambda a: a | 1)}
FLAGS = 0x8d5  # OF SF ZF AF PF CF
# The same for the masks of flags: read, written, undefined, cleared, set.
FLAG_KINDS = {"unwritten": lambda r, w, u, c, s: (r, 0, 0, 0, 0),
              "written": lambda r, w, u, c, s: (r, w | FLAGS & ~(u | c | s), u, c, s),
              "unread": lambda r, w, u, c, s: (0, w, u, c, s),
              "read": lambda r, w, u, c, s: (r | FLAGS, w, u, c, s)}
NO_PLACE = {"immediate", "immediate_low4", "immediate_signed", "relative", "far", "one", "is4"}
# Samples a row for tests that would try a wrong row very often. Of some rows none of them has an operand by itself, in a
# register that no other one is: of "read" a few dozen rows survive by that chance.
FEW = "2"
# Damage that cannot be seen here, by mnemonic and row.
KNOWN = {
    # Other selectors cannot be loaded, bounds, shadow stacks and transactions are off, descriptors are the kernel's.
    "unwritten": r"mov 8E|bnd|rdssp|xabort|l(ar|sl) ",
    # Separate elements; control and status words and selectors, which nothing changes; sources that are part of the
    # destination.
    "written": r"vp?gather|bnd|mov 8C|v?stmxcsr|fnst[cs]w|c(bw|wde|dqe) |fld D9 /0 fR",
    # The same in all states: selectors, the stack pointer, control and status words. A mask makes all reads of memory
    # uncertain, which the row need not say. The result of a 16-bit bswap is undefined.
    "unread": r"mov 8C|bnd|pushf?w? |call E8|v?stmxcsr|fnst[cs]w|vp?gather|vbroadcast|bswap 0F C8\+r o16",
    # A mask makes the old destination count, so that calling it read is no damage; the other destinations are separate
    # elements. An address alone has no bytes that could be read.
    "read": r"\S+ EVEX|vp?gather|bnd|lea |prefetch|cl(flush|wb|demote)",
    # A count of 0 leaves the flags as they were, and then they show.
    "read-flags": r"(sh[lr]d?|sar|(cmps|scas)[bwdq]) ",
    # Processors leave undefined flags as they were; the direction is the same in all states.
    "unwritten-flags": r"i?div |cld ",
    "unread-flags": r"(movs|cmps|stos|lods|scas)[bwdq] ",  # the direction is the same in all states
}


def part(text, name):
    """The lines of an array of the table: where they begin and end."""
    start = text.index("\n", text.index(name)) + 1
    return start, text.index("\n};", start)


def items(text, name, pattern):
    start, end = part(text, name)
    return [m.groups() for m in re.finditer(pattern, text[start:end])]


def damaged_table(kind, flags):
    """The table's text, and the numbers of the rows that are other than they were."""
    text = open(TABLE, encoding="utf-8").read()
    rows = items(text, "kRows[]", r"\n?    \{(\d+), \d+, \d+, (\d+), \d+, (\d+),.*?// (\S+)  (\S+)")
    if flags:
        start, end = part(text, "kOperations[]")
        touched = []
        def change(match):
            old = tuple(int(v, 16) for v in match[2].split(", "))
            new = FLAG_KINDS[kind](*old)
            touched.append(new != old)
            return match[1] + ", ".join(map(hex, new)) + match[3]
        changed = re.sub(r"(ControlFlow::\w+, \{)((?:0x[0-9a-f]+, ){4}0x[0-9a-f]+)(, )", change, text[start:end])
        return text[:start] + changed + text[end:], rows, {i for i, row in enumerate(rows) if touched[int(row[0])]}
    sources = [source for source, in items(text, "kOperandKinds[]", r"Source::(\w+)")]
    start, end = part(text, "kOperandUses[]")
    uses = [(int(k), int(a)) for k, a in re.findall(r"\{(\d+), Access\((\d+)\)\}", text[start:end])]
    other = [(k, KINDS[kind][1](a) if sources[k] not in NO_PLACE else a) for k, a in uses]
    changed = "".join(f"    {{{k}, Access({a})}},\n" for k, a in other).rstrip("\n")
    touched = {i for i, (_, at, count, _, _) in enumerate(rows) if uses[int(at):int(at) + int(count)] != other[int(at):int(at) + int(count)]}
    return text[:start] + changed + text[end:], rows, touched


def line_of(place):
    """What stands in the .isa file at a place such as x86.isa:12."""
    name, number = place.split(":")
    return open(os.path.join(ROOT, "src/core/isa", name), encoding="utf-8").read().split("\n")[int(number) - 1].strip()


def judge(text, tests, samples):
    """The rows that the tests tried with such a table, and those that they complained of."""
    with open(os.path.join(BUILD, "isa_table.inc"), "w", encoding="utf-8") as out:
        out.write(text)
    binary, report = os.path.join(BUILD, "judge"), os.path.join(BUILD, "report.json")
    objects = os.path.join(RELEASE, "tests/CMakeFiles/deeptrace_tests.dir")
    core = os.path.join(ROOT, "src/core")
    subprocess.run(["g++", "-std=c++20", "-O2", f"-I{BUILD}", f"-I{core}", os.path.join(core, "isa/decoder.cpp"),
                    f"{objects}/reads_test.cpp.o", f"{objects}/processor_test.cpp.o",
                    os.path.join(RELEASE, "src/libdeeptrace_core.a"), "-lgtest", "-lgtest_main", "-lfmt", "-o", binary], check=True)
    subprocess.run([binary, f"--gtest_filter=Processor.{tests}", f"--gtest_output=json:{report}"], stdout=subprocess.DEVNULL, check=False,
                   env={**os.environ, **({"DEEPTRACE_ROW_SAMPLES": samples} if samples else {})})
    tried, wrong = set(), set()
    for test in json.load(open(report, encoding="utf-8"))["testsuites"][0]["testsuite"]:
        tried |= {int(row) for row in test.get("rows_tried", "").split()}
        for failure in test.get("failures", []):
            wrong |= {int(row) for row in re.findall(r"\brow (\d+):", failure["failure"])}
    return tried, wrong


def main():
    os.makedirs(BUILD, exist_ok=True)
    survived = 0
    for name in sys.argv[1:] or [kind + what for what in ("", "-flags") for kind in KINDS]:
        kind, _, flags = name.partition("-")
        text, rows, touched = damaged_table(kind, bool(flags))
        samples = FEW if name in ("written-flags", "read", "read-flags") else ""
        tried, wrong = judge(text, KINDS[kind][0], samples)
        if samples:  # rows of which so few do not show all are not judged
            tried -= judge(open(TABLE, encoding="utf-8").read(), KINDS[kind][0], samples)[1]
        survivors = [f"{rows[row][3]} {line_of(rows[row][4])}" for row in sorted((tried & touched) - wrong)]
        known = [row for row in survivors if re.match(KNOWN.get(name, "$"), row)]
        survivors = [row for row in survivors if row not in known]
        for row in survivors:
            print(f"survived {name}: {row}")
        print(f"{name}: {len(touched)} rows damaged, {len(touched & tried)} judged, {len(touched & wrong)} seen, "
              f"{len(known)} known, {len(survivors)} survived", flush=True)
        survived += len(survivors)
    return 1 if survived else 0


sys.exit(main())
