#!/usr/bin/env python3
"""Line stops in optimised real packages against a walk over every instruction of the run.

usage: line_walk.py DEEPTRACE FOLDER [LEVELS]

FOLDER as for real_lines.py. gcc's assembly output gets a label after every `.loc`, and a table of them; the program is
executed by bare single steps (line_walk.c). A line is entered when an instruction at one of its statement marks is
executed and the mark before it in the same call was another line's, or by coming back to the mark that it was entered by.
Nothing of this knows of blocks, scopes or copies, and it shares no code with the product. Where an inlined copy of a line
follows another with no mark of another line between, it counts one entry, and the product two."""
import array
import collections
import os
import random
import re
import subprocess
import sys
import tempfile

import real_lines

HERE = os.path.dirname(os.path.abspath(__file__))


def labelled(text, table):
    """Assembly with a label for every .loc and function; `table` gets what each stands for."""
    files, statement, out, labels, functions = {}, True, [], [], set()
    for line in text.split("\n"):
        out.append(line)
        if found := re.match(r'\s*\.file (\d+) (?:"[^"]*" )?"([^"]*)"', line):
            files[int(found[1])] = os.path.basename(found[2])
        elif found := re.match(r"\s*\.type\s+(\S+), @function", line):
            functions.add(found[1])
        elif (found := re.match(r"(\S+):", line)) and found[1] in functions:
            labels.append((found[1], len(table)))
            table.append(None)
        elif found := re.match(r"\s*\.loc (\d+) (\d+)(.*)", line):
            if mark := re.search(r"is_stmt (\d)", found[3]):
                statement = mark[1] == "1"
            out.append(f".Lwalk{len(table)}:")
            labels.append((f".Lwalk{len(table)}", len(table)))
            table.append((files[int(found[1])], int(found[2]), statement))
    out.append('\t.section .walk,"a",@progbits')
    out += [f"\t.quad {label}, {number}" for label, number in labels]
    return "\n".join(out) + "\n"


def sections(path):
    with open(path, "rb") as file:
        data = file.read()
    at = lambda offset, size: int.from_bytes(data[offset:offset + size], "little")
    table, entry, count, names = at(40, 8), at(58, 2), at(60, 2), at(62, 2)
    strings = at(table + names * entry + 24, 8)
    result = {}
    for head in range(table, table + count * entry, entry):
        name = strings + at(head, 4)
        address, offset, size = at(head + 16, 8), at(head + 24, 8), at(head + 32, 8)
        result[data[name:data.index(b"\0", name)].decode()] = (address, data[offset:offset + size])
    return result


def entries(program, table, arguments, walker, folder):
    """How often each line was entered."""
    found = sections(program)
    words = array.array("Q", found[".walk"][1])
    marks, functions = collections.defaultdict(list), set()
    for address, number in zip(words[::2], words[1::2]):
        if table[number] is None:
            functions.add(address)
        elif table[number][2] and marks[address][-1:] != [table[number][:2]]:
            marks[address].append(table[number][:2])
    start, code = found[".text"]
    trace = os.path.join(folder, "trace")
    subprocess.run([walker, trace, hex(start), hex(start + len(code)), "./program", *arguments], cwd=folder,
                   capture_output=True)
    with open(trace, "rb") as file:
        rows = array.array("Q", file.read())
    counts, frames, before = collections.Counter(), [[1 << 64, None, 0]], 0  # stack at entry, line, its mark
    for address, stack in zip(rows[::2], rows[1::2]):
        while stack > frames[-1][0]:
            frames.pop()
        if address in functions and address != before:
            if frames[-1][0] == stack:
                frames[-1][1] = None
            else:
                frames.append([stack, None, 0])
        for line in marks.get(address, ()) if address != before else ():
            frame = frames[-1]
            if frame[1] != line or frame[2] == address:
                counts[line] += 1
                frame[1], frame[2] = line, address
        before = address
    return counts, len(rows) // 2, {line for lines in marks.values() for line in lines}


def main():
    tool, folder = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
    levels = sys.argv[3].split(",") if len(sys.argv) > 3 else ["-O2"]
    for package in real_lines.packages(folder):
        for level in levels:
            with tempfile.TemporaryDirectory() as place:
                for name, text in package.files.items():
                    with open(os.path.join(place, name), "w") as file:
                        file.write(text)
                walker = os.path.join(place, "walker")
                subprocess.run(["gcc", "-O2", "-o", walker, os.path.join(HERE, "line_walk.c")], check=True)
                compiler, table, assembly = "g++" if package.plus else "gcc", [], []
                for number, source in enumerate(package.sources):
                    out = os.path.join(place, f"{number}.s")
                    subprocess.run([compiler, "-S", "-g", level, "-fno-pie", "-w", *package.options, "-o", out, source],
                                   cwd=place, check=True)
                    with open(out) as file:
                        text = labelled(file.read(), table)
                    with open(out, "w") as file:
                        file.write(text)
                    assembly.append(out)
                subprocess.run([compiler, "-no-pie", "-o", os.path.join(place, "program"), *assembly,
                                *package.libraries], check=True)
                counts, steps, marked = entries(os.path.join(place, "program"), table, package.arguments, walker, place)
                own = {os.path.basename(one) for one in package.sources}
                usable = sorted(line for line in marked if line[0] in own and counts[line] <= 300)
                wanted = sorted(random.Random(1).sample(usable, min(600, len(usable))))
                told = real_lines.hits_at(tool, package, place, wanted)
            wrong = [(line, counts[line], hits) for line, hits in told.items() if hits != counts[line]]
            few = sum(hits < count for _, count, hits in wrong)
            missed = [line for line, count, hits in wrong if hits == 0]
            print(f"{package.name} gcc {level}: {steps} instructions; {len(told)} lines, "
                  f"{sum(counts[line] for line in told)} entries: {len(wrong)} otherwise ({few} fewer, "
                  f"{len(wrong) - few} more, {len(missed)} missed)", flush=True)
            for (file, line), count, hits in wrong:
                print(f"  {file}:{line}: {count} entries, {hits} hits")


if __name__ == "__main__":
    main()
