#!/usr/bin/env python3
"""Damages every row of the instruction table, each kind of damage in all rows that it fits at once, and tells which rows
the assembler does not see to be wrong: a table whose every row is proved has no survivors.

usage: corrupt_rows.py [KIND…]      (kinds: opcode operand prefix length wide name; without any: all of them)

The damaged table is built into tests/row_samples.cpp, which prints samples of every row; the assembler must refuse the
text of a damaged row, or make other bytes of it, or the row must have no samples left. Rows whose damage the generator
refuses are seen by it. Accesses, flags and sentences are not damaged here: the processor judges those."""
import glob
import os
import re
import shutil
import subprocess
import sys

ROOT = os.path.abspath(os.path.join(os.path.dirname(__file__), ".."))
BUILD = os.path.join(ROOT, "build", "corrupt")
SLOT = 32
SWAPS = [("Gv", "Gb"), ("Ev", "Eb"), ("Gb", "Gv"), ("Eb", "Ev"), ("Gd", "Gq"), ("Gq", "Gd"), ("Vdq", "Vqq"), ("Vx", "Vdq"),
         ("Vqq", "Vdq"), ("Voq", "Vdq"), ("Wx", "Ed"), ("Wdq", "Wd"), ("Ww", "Wq"), ("Wd", "Wq"), ("Wq", "Wd"), ("Ed", "Eq"),
         ("Eq", "Ed"), ("Ib", "Iw"), ("Iz", "Ib"), ("Nb", "Ib"), ("Md", "Mq"), ("Mq", "Md"), ("Mb", "Md"), ("Mw", "Md"),
         ("Mx", "Md"), ("Mdq", "Md"), ("kGq", "Gq"), ("kGd", "Gd"), ("ST0", "ST1"), ("mGq", "Vdq"), ("mEq", "Ed"), ("AL", "AH"),
         ("rAX", "AL"), ("Zv", "AL"), ("Jz", "Jb"), ("fR", "Eb"), ("tG", "Vdq"), ("Rd", "Rq"), ("Rq", "Rd"), ("By", "Hdq"),
         ("Gy", "Gb"), ("Sw", "Cd"), ("Ew", "Ed")]
# Damage that the assembler does not mind: it takes `vcvttps2dq xmm1, ymm2`. The processor does: the upper half is written
# (Processor.ChangesOnlyWhatTheTableCallsWritten fails).
PROCESSOR_SEES = {"VEX.01.F3.0F.I 5B /r Vdq Wx | avx"}
SETTINGS = r"    (?!access|hidden|flags|kind|traits|does|note|condition)"


def swap_first(body, pairs):
    for old, new in pairs:
        changed = re.sub(rf"(?<=\s){re.escape(old)}(?=\s|$)", new, body, count=1)
        if changed != body:
            return changed
    return None


def damage(line, kind):
    """The row with one thing wrong, or None where this kind of damage does not fit."""
    body, bar, features = line.partition("|")
    words = body.split()
    vector = re.match(r"(VEX|EVEX|XOP)\.(\w+)\.(\w+)\.(\w+)\.(\w+)$", words[0])
    if kind == "operand" and "second" not in features:  # there the text does not show the first one
        fixed = vector and vector[2] == "0"  # there a vector has 128 bits in any case
        changed = swap_first(body, [pair for pair in SWAPS if not (fixed and pair == ("Vx", "Vdq"))])
        return changed and changed + bar + features
    if kind == "name":
        return f"    {' '.join(words)} =no_such_word {bar}{features}" if "=" not in body else None
    if kind == "prefix":
        if vector:
            other = {"NP": "66", "66": "F3", "F3": "F2", "F2": "NP"}[vector[3]]
            return line.replace(words[0], f"{vector[1]}.{vector[2]}.{other}.{vector[4]}.{vector[5]}", 1)
        if words[0] in ("NP", "66", "F2", "F3"):
            other = {"NP": "66", "66": "F3", "F3": "F2", "F2": "NP"}[words[0]]
            return line.replace(words[0], other, 1)
        return None
    if kind == "length" and vector and vector[2] in ("0", "1", "2"):
        return line.replace(words[0], f"{vector[1]}.{(int(vector[2]) + 1) % 2}.{vector[3]}.{vector[4]}.{vector[5]}", 1)
    if kind == "wide" and vector and vector[5] in ("W0", "W1"):
        return line.replace(words[0], words[0][:-1] + ("1" if vector[5] == "W0" else "0"), 1)
    if kind == "opcode":
        for i, word in enumerate(words):
            if re.fullmatch(r"[0-9A-F]{2}", word) and not (i == 0 and word in ("66", "F2", "F3") and len(words) > 1):
                if word == "0F" and i + 1 < len(words) and re.fullmatch(r"[0-9A-F]{2}(\+r)?", words[i + 1]):
                    continue
                if int(word, 16) ^ 1 == 0x0F and i == 0:
                    return None  # that byte is no opcode
                at = [m.start() for m in re.finditer(r"\S+", body)][i]
                return f"{body[:at]}{int(word, 16) ^ 1:02X}{body[at + 2:]}{bar}{features}"
            if re.fullmatch(r"[0-9A-F]{2}\+r", word):
                return line.replace(word, f"{int(word[:2], 16) ^ 8:02X}+r", 1)
    return None


def generate(folder, table):
    return subprocess.run(["python3", os.path.join(ROOT, "src/core/isa/generate_table.py"), table,
                           os.path.join(os.path.dirname(table), "isa_quick.inc"),
                           *sorted(glob.glob(os.path.join(folder, "*.isa")))], capture_output=True, text=True)


def damaged_table(kind, half):
    """Damages all rows, or every other one: then rows that are alike do not change places unseen. Of the damaged ones, those that the generator refuses are taken back, one after the other. Returns the places damaged
    and the count of refused ones."""
    copy, table = os.path.join(BUILD, "isa"), os.path.join(BUILD, "isa_table.inc")
    shutil.rmtree(copy, ignore_errors=True)
    shutil.copytree(os.path.join(ROOT, "src/core/isa"), copy)
    files, damaged, refused = {}, {}, 0
    for path in sorted(glob.glob(os.path.join(copy, "*.isa"))):
        lines = open(path, encoding="utf-8").read().split("\n")
        in_list = False
        for number, line in enumerate(lines):
            in_list = line.startswith("each ") or (in_list and line.startswith("    "))  # what templates are filled with
            row = "" if in_list else line.split("#")[0].rstrip()
            wrong = damage(row, kind) if re.match(SETTINGS, row) and "%" not in row and re.search(r"[0-9A-F]{2}", row) else None
            if wrong and wrong != row and wrong.strip() not in PROCESSOR_SEES and (half is None or number % 2 == half):
                damaged[(path, number)] = line
                lines[number] = wrong
        files[path] = lines
    while True:
        for path, lines in files.items():
            open(path, "w", encoding="utf-8").write("\n".join(lines))
        made = generate(copy, table)
        if made.returncode == 0:
            return damaged, refused
        # A message names the rows; either of them may be the damaged one.
        places = [(path, int(number) - 1) for path, number in re.findall(r"(\S+\.isa):(\d+)", made.stderr)]
        undone = [place for place in places if place in damaged]
        if not undone:
            sys.exit(made.stderr[-500:])
        for path, number in undone[:1]:
            files[path][number] = damaged.pop((path, number))
            refused += 1


def rows_of(table):
    """The places of all rows, by number, as the generator wrote them."""
    return [f"{m[1]}:{m[2]}" for m in re.finditer(r"\},  // \S+  (\S+\.isa):(\d+)$", open(table, encoding="utf-8").read(), re.M)]


def build():
    binary = os.path.join(BUILD, "row_samples")
    core = os.path.join(ROOT, "src/core")
    sources = [os.path.join(core, "isa", name) for name in
               ("decoder.cpp", "quick_decoder.cpp", "operand.cpp", "text.cpp", "register.cpp", "assembler.cpp", "meaning.cpp")]
    made = subprocess.run(["g++", "-std=c++20", "-O1", f"-I{BUILD}", f"-I{core}", f"-I{ROOT}/tests", *sources,
                           os.path.join(ROOT, "tests/row_samples.cpp"), "-o", binary], capture_output=True, text=True)
    return binary if made.returncode == 0 else sys.exit(made.stderr[:2000])


def rows_seen(binary):
    """Numbers of the rows with a sample, and of those among them of which the assembler makes something else."""
    samples = [line.split(" ", 3) for line in subprocess.run([binary], capture_output=True, text=True).stdout.splitlines()]
    samples = [s for s in samples if len(s) == 4]
    having, wrong = {int(s[0]) for s in samples}, set()
    for mode in ("64", "32"):
        todo = [s for s in samples if s[1] == mode]
        late = "".join(f".set late_{'minus_' if v < 0 else ''}{abs(v)}, {v}\n" for v in range(-128, 128))
        while todo:
            source, obj = os.path.join(BUILD, "a.s"), os.path.join(BUILD, "a.o")
            with open(source, "w", encoding="ascii") as out:
                out.write(".intel_syntax noprefix\n" + "".join(f"{s[3]}\n.balign {SLOT}, 0xcc\n" for s in todo) + late)
            made = subprocess.run(["as", f"--{mode}", "-O0", "-mindex-reg", "-mintel64", "-o", obj, source], capture_output=True,
                                  text=True, errors="replace")
            bad = {int(n) for n in re.findall(r"^[^\n:]*:(\d+): Error", made.stderr, re.M)}
            wrong |= {int(s[0]) for i, s in enumerate(todo) if 2 * i + 2 in bad}
            todo, before = [s for i, s in enumerate(todo) if 2 * i + 2 not in bad], len(todo)
            if made.returncode == 0:
                sys.path.insert(0, os.path.join(ROOT, "bench"))
                from roundtrip import text_of_object
                text = text_of_object(obj)
                for i, s in enumerate(todo):
                    code = bytes.fromhex(s[2])
                    if text[SLOT * i:SLOT * (i + 1)] != code + bytes([0xCC]) * (SLOT - len(code)):
                        wrong.add(int(s[0]))
                break
            if len(todo) == before:
                sys.exit(made.stderr[:500])
    return having, wrong


def main():
    os.makedirs(BUILD, exist_ok=True)
    total = survived = 0
    for kind in sys.argv[1:] or ["opcode", "operand", "prefix", "length/0", "length/1", "wide", "name"]:
        kind, _, half = kind.partition("/")
        damaged, refused = damaged_table(kind, int(half) if half else None)
        having, wrong = rows_seen(build())
        places = {}
        for number, place in enumerate(rows_of(os.path.join(BUILD, "isa_table.inc"))):
            places.setdefault(place, []).append(number)
        survivors = []
        for path, number in damaged:
            place = f"{os.path.basename(path)}:{number + 1}"
            rows = places.get(place, [])
            if any(row in having for row in rows) and not any(row in wrong for row in rows):
                survivors.append(place)
        for place in survivors:
            name, number = place.split(":")
            print(f"survived {kind}: {place} {open(os.path.join(BUILD, 'isa', name), encoding='utf-8').read().split(chr(10))[int(number) - 1].strip()}")
        print(f"{kind}: {len(damaged) + refused} rows damaged, {refused} refused by the generator, "
              f"{len(damaged) - len(survivors)} seen, {len(survivors)} survived", flush=True)
        total, survived = total + len(damaged) + refused, survived + len(survivors)
    print(f"{total} damages, {survived} survived")
    return 1 if survived else 0


sys.exit(main())
