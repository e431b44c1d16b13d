#!/usr/bin/env python3
"""Stops at lines and functions against programs that count their own passes.

usage: passes.py DEEPTRACE [FIRST_SEED COUNT [COMPILER,… [LEVEL,… ]]]   (a level may have several options: -O2+-flto)

Each generated program has lines with a volatile counter of their own and prints the counters at its end; functions have
one too. A stop at each of them has to count the same. Optimisers take some lines apart so that no line table can tell
how often they were come to: the shares of those are printed, and bounded by what is known to hold (MOST)."""
import collections
import json
import os
import random
import re
import subprocess
import sys
import tempfile

# Lines, of a thousand, whose count may be wrong: by compiler, without and with optimisation.
MOST = {"gcc": (0, 15), "clang": (0, 40)}


class Program:
    """A generated program: its text, which counter each line and function has."""

    def __init__(self, seed):
        self.random = random.Random(seed)
        self.text, self.depth, self.counters = [], 0, 0
        self.lines, self.functions, self.callable = {}, {}, []
        self.write()

    def out(self, text, counted=False):
        self.text.append("  " * self.depth + text)
        if counted:
            self.lines[len(self.text)] = self.counters - 1

    def count(self):
        self.counters += 1
        return f"c[{self.counters - 1}]++"

    def variable(self):
        return self.random.choice("xyz")

    def value(self, depth=0):
        kind = self.random.randrange(7 if depth < 2 else 2)
        if kind == 0:
            return self.variable()
        if kind == 1:
            return str(self.random.randrange(1, 9))
        one = self.value(depth + 1)
        if kind == 4:
            return f"data[({one}) & 15]"
        if kind == 6:
            return f"({one} >> 1)"
        return f"({one} {'+*^'[kind % 3]} {self.value(depth + 1)})"

    def call(self):
        return f"{self.random.choice(self.callable)}({self.value()}, {self.value()})"

    def block(self, most, loops, in_loop):
        self.depth += 1
        for _ in range(self.random.randrange(1, most)):
            self.statement(loops, in_loop)
        self.depth -= 1

    def loop(self, head, loops):
        self.out(head, "c[" in head)
        self.block(4, loops - 1, True)
        self.out("}")

    def statement(self, loops, in_loop):
        kind = self.random.randrange(16)
        if kind < 4:
            self.out(f"{self.count()};", True)
        elif kind == 4:
            self.out(f"{self.variable()} = {self.value()};")
        elif kind == 5:
            self.out(f"{self.count()}, {self.variable()} += {self.value()};", True)
        elif kind == 6 and self.callable:
            self.out(f"{self.variable()} += {self.call()};")
        elif kind == 7 and self.callable:
            self.out(f"{self.count()}, {self.variable()} ^= {self.call()};", True)
        elif kind == 8:
            self.out(f"if ({self.count()}, {self.value()} & {self.random.choice([1, 2, 4])}) {{", True)
            self.block(3, loops, in_loop)
            if self.random.random() < .5:
                self.out("} else {")
                self.block(3, loops, in_loop)
            self.out("}")
        elif kind == 9 and loops:
            turns = self.random.choice(["2", "3", "4", "8", "(x & 3)", "(y & 7)", "5"])
            self.loop(f"for (unsigned i{loops} = 0; i{loops} < {turns}; i{loops}++) {{", loops)
        elif kind == 10 and loops:
            turns, count = self.random.choice(["2", "3", "4", "8", "(x & 3)", "(y & 7)"]), self.count()
            self.loop(f"for (unsigned i{loops} = ({count}, 0); i{loops} < {turns}; {count}, i{loops}++) {{", loops)
        elif kind == 11 and loops:
            name = f"w{self.counters}"
            self.out(f"unsigned {name} = {self.value()} & 7;")
            self.loop(f"while ({self.count()}, {name}-- > 0) {{", loops)
        elif kind == 12 and loops:
            name = f"d{self.counters}"
            self.out(f"unsigned {name} = {self.value()} & 3;")
            self.out("do {")
            self.block(3, loops - 1, False)
            self.out(f"}} while ({self.count()}, {name}-- > 0);", True)
        elif kind == 13:
            self.out(f"{self.variable()} = sink({self.count()},", True)
            self.out(f"         {self.value()},")
            self.out(f"         {self.value()});")
        elif kind == 14:
            self.out(f"switch ({self.value()} & 3) {{")
            for value in range(3):
                self.out(f"case {value}:")
                self.block(2, 0, False)
                self.out("  break;" if self.random.random() < .7 else "  ;")
            self.out(f"default: {self.count()};", True)
            self.out("}")
        elif kind == 15 and in_loop:
            self.out(f"if ({self.value()} & 4)")
            self.out("  " + self.random.choice(["continue;", "break;"]))
        else:
            self.out(f"{self.count()}, data[{self.value()} & 15] = {self.value()};", True)

    def write(self):
        self.out("#include <stdio.h>")
        self.out("extern volatile unsigned c[];")
        self.out("static unsigned data[16] = {3, 1, 4, 1, 5, 9, 2, 6, 5, 3, 5, 8, 9, 7, 9, 3};")
        self.out("__attribute__((noinline)) static unsigned sink(unsigned a, unsigned b, unsigned d) {")
        self.out("  return a * 0 + b + d;")
        self.out("}")
        for number in range(self.random.randrange(2, 5)):
            kind = self.random.choice(["static", "static inline", "__attribute__((noinline)) static"])
            self.out(f"{kind} unsigned work{number}(unsigned x, unsigned y) {{")
            self.out("  unsigned z = x + y;")
            self.out(f"  {self.count()};", True)
            self.functions[f"work{number}"] = self.counters - 1
            self.block(6, 2 if number == 0 else 1, False)
            self.out("  return x + y + z;")
            self.out("}")
            self.callable = list(self.functions)
        self.out("int main(void) {")
        self.out("  unsigned x = 5, y = 9, z = 2;")
        self.out('  __asm__("" : "+r"(x), "+r"(y), "+r"(z));')
        for _ in range(3):
            self.block(6, 2, False)
        self.out(f"  for (unsigned i = 0; i < {self.counters}; i++)")
        self.out('    printf("%u\\n", c[i]);')
        self.out("  return (x + y + z) & 0;")
        self.out("}")
        self.out(f"volatile unsigned c[{self.counters + 1}];")


class Shares(collections.Counter):
    def words(self):
        wrong = self["few"] + self["many"]
        return (f"{self['lines']} lines, {self['passes']} passes: {wrong} wrong ({self['few']} too few, "
                f"{self['many']} too many, {self['never']} never); {self['functions']} functions: "
                f"{self['functions wrong']} wrong")


def lines_with_code(tool, program):
    run = subprocess.run([tool, "lines", program, "passes.c:1..999", "--format", "json"], capture_output=True, text=True)
    return {one["line"] for one in json.loads(run.stdout)["lines"] if one.get("ranges") or one.get("places")}


def counts_by(tool, program, lines, functions):
    """Hits of each line and function; those without instructions are left out."""
    lines, functions = sorted(set(lines) & lines_with_code(tool, program)), list(functions)
    while True:
        places = [f"passes.c:{line}" for line in lines] + functions
        words = [word for place in places for word in ("--at", place)]
        run = subprocess.run([tool, "hits", *words, "--format", "json", "--program-output", "/dev/null", program],
                             capture_output=True, text=True)
        gone = re.match(r"deeptrace: (work\d+): no such", run.stderr)
        if not gone:
            break
        functions.remove(gone[1])
    hits = collections.Counter(hit["stop"] for hit in json.loads(run.stdout)["hits"])
    counted = [hits[f"h{number}"] for number in range(1, len(places) + 1)]
    return dict(zip(lines, counted)), dict(zip(functions, counted[len(lines):]))


def check(tool, seed, compiler, level, shares, wrong):
    program = Program(seed)
    with tempfile.TemporaryDirectory() as folder:
        source, built = os.path.join(folder, "passes.c"), os.path.join(folder, "passes")
        with open(source, "w") as file:
            file.write("\n".join(program.text) + "\n")
        subprocess.run([compiler, "-g", *level.split("+"), "-w", "-o", built, source], check=True)
        try:
            true = [int(word) for word in subprocess.run([built], capture_output=True, timeout=10).stdout.split()]
        except subprocess.TimeoutExpired:
            return
        if sum(true) > 3000:
            return
        lines, functions = counts_by(tool, built, program.lines, program.functions)
    for line, count in lines.items():
        right = true[program.lines[line]]
        shares.update(lines=1, passes=right, few=count < right, many=count > right, never=right != 0 and count == 0)
        if count != right:
            wrong.append(f"seed {seed} {compiler} {level} line {line}: {right} passes, {count} hits: "
                         f"{program.text[line - 1].strip()}")
    for name, count in functions.items():
        right = true[program.functions[name]]
        shares.update({"functions": 1, "functions wrong": count != right})
        if count != right:
            wrong.append(f"seed {seed} {compiler} {level} {name}: called {right} times, {count} hits")


def main():
    tool = sys.argv[1]
    first, count = (int(word) for word in (sys.argv[2:4] or ["1", "3"]))
    compilers = sys.argv[4].split(",") if len(sys.argv) > 4 else ["gcc", "clang"]
    levels = ["-O0", "-O1", "-O2", "-O3+-funroll-loops", "-Os", "-O2+-flto"]
    if len(sys.argv) > 5:
        levels = sys.argv[5].split(",")
    failed = False
    for compiler in compilers:
        for optimised in (False, True):
            total, wrong = Shares(), []
            for level in (one for one in levels if (one != "-O0") == optimised):
                shares = Shares()
                for seed in range(first, first + count):
                    check(tool, seed, compiler, level, shares, wrong)
                print(f"{compiler} {level}: {shares.words()}")
                total.update(shares)
            if not total:
                continue
            most = MOST[compiler][optimised]
            bad = (total["few"] + total["many"]) * 1000 > most * total["lines"] or total["lines"] == 0
            bad |= total["functions wrong"] * 1000 > most * total["functions"]
            failed |= bad
            for line in wrong if bad or count > 20 else []:
                print("  " + line)
            if bad:
                print(f"wrong: more than {most} of a thousand")
    return failed


if __name__ == "__main__":
    sys.exit(main())
