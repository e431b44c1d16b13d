#!/usr/bin/env python3
"""Damages the instruction table row by row and tells which damage no test sees: a table whose every row is proved has no
survivors.

usage: corrupt_rows.py [HOW MANY [SEED]]      (without a number: every row, which takes hours)

Each round changes the opcode or one operand of a row, builds the tables and runs the tests of the table: one of them
must fail, or the generator refuse the table. Accesses, flags and sentences are not damaged."""
import glob
import os
import random
import re
import shutil
import subprocess
import sys

ROOT = os.path.abspath(os.path.join(os.path.dirname(__file__), ".."))
BUILD = os.path.join(ROOT, "build", "corrupt")
ROW = re.compile(r"^    (?!access|hidden|flags|kind|traits)(.*?)((?:N[P6]|66|F2|F3|0F|0F38|0F3A|\w+\.\S+)\s+)*"
                 r"([0-9A-F]{2})(\+r)?(\s|$)")
SWAPS = [("Gv", "Gb"), ("Ev", "Eb"), ("Gd", "Gq"), ("Vdq", "Vx"), ("Vx", "Vdq"), ("Wx", "Wdq"), ("Wdq", "Wx"),
         ("Wd", "Wq"), ("Wq", "Wd"), ("Ib", "Iw"), ("Md", "Mq"), ("Mq", "Md"), ("Hx", "Hdq"), ("Ed", "Eq"),
         ("kGq", "Gq"), ("ST0", "ST1")]


def damage(line, kind):
    """The row with one thing wrong, or None where this kind of damage does not fit."""
    body, bar, features = line.partition("|")
    if kind == "opcode":
        match = ROW.match(body)
        if not match:
            return None
        at = match.start(3)
        return f"{body[:at]}{int(match[3], 16) ^ 0x01:02X}{body[at + 2:]}{bar}{features}"
    if kind == "operand":
        fixed_length = re.match(r"\s*\w+\.[0I]\.", body)  # there the vector length is 128 bits
        for old, new in SWAPS:
            if fixed_length and "x" in old + new:
                continue
            changed = re.sub(rf"(?<=\s){old}(?=\s|$)", new, body, count=1)
            if changed != body:
                return changed + bar + features
    return None


def run(command):
    return subprocess.run(command, cwd=ROOT, capture_output=True, text=True)


def main():
    limit = int(sys.argv[1]) if len(sys.argv) > 1 else None
    random.seed(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
    copy = os.path.join(BUILD, "isa")
    os.makedirs(BUILD, exist_ok=True)
    rows = []
    for path in sorted(glob.glob(os.path.join(ROOT, "src/core/isa/*.isa"))):
        for number, line in enumerate(open(path, encoding="utf-8").read().split("\n")):
            if re.match(r"    (?!access|hidden|flags|kind|traits)", line) and ROW.match(line) and "%" not in line:
                rows += [(path, number, kind) for kind in ("opcode", "operand") if damage(line, kind)]
    if limit:
        rows = random.sample(rows, min(limit, len(rows)))
    survivors, seen, refused = [], 0, 0
    for path, number, kind in rows:
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(os.path.join(ROOT, "src/core/isa"), copy)
        target = os.path.join(copy, os.path.basename(path))
        lines = open(target, encoding="utf-8").read().split("\n")
        lines[number] = damage(lines[number], kind)
        open(target, "w", encoding="utf-8").write("\n".join(lines))
        table = os.path.join(BUILD, "isa_table.inc")
        made = run(["python3", "src/core/isa/generate_table.py", table, *sorted(glob.glob(os.path.join(copy, "*.isa")))])
        if made.returncode != 0:
            refused += 1  # two rows claim the same bytes: the generator sees it
            continue
        binary = os.path.join(BUILD, "tests")
        compiled = run(["g++", "-std=c++20", "-O1", f"-I{BUILD}", "-Isrc/core", "-Itests", "src/core/isa/decoder.cpp",
                        *[o for o in glob.glob(ROOT + "/build/release/src/CMakeFiles/deeptrace_core.dir/core/**/*.o", recursive=True)
                          if "isa/decoder" not in o],
                        *[o for o in glob.glob(ROOT + "/build/release/tests/CMakeFiles/deeptrace_tests.dir/*.o")
                          if any(n in o for n in ("isa_test", "processor_test", "support"))],
                        "-lgtest", "-lgtest_main", "-lfmt", "-o", binary])
        if compiled.returncode != 0:
            sys.exit(compiled.stderr[:2000])
        outcome = run([binary, "--gtest_brief=1"])
        if outcome.returncode == 0:
            survivors.append((os.path.basename(path), number + 1, kind, lines[number].strip()))
            print("survived:", *survivors[-1], flush=True)
        else:
            seen += 1
    print(f"{len(rows)} rows damaged: {seen} seen by tests, {refused} refused by the generator, {len(survivors)} survived")
    return 1 if survivors else 0


sys.exit(main())
