#!/usr/bin/env python3
"""How long a stop point at a line with 10,000 copies takes.   usage: many_copies.py DEEPTRACE

The line is inlined 10,000 times into one function, and once into each of 10,000. What the same run takes with a stop
point at one address is taken off. Aim: 0.1 s. Medians of fifteen, alternating."""
import os
import statistics
import subprocess
import sys
import tempfile
import time

COPIES = 10000
HEAD = """volatile int passes;
static inline __attribute__((always_inline)) void pass(int by) {
  passes += by;
}
"""
LINE = 3


def in_one_function():
    return HEAD + "int main(int count, char **words) {\n" + "  pass(count);\n" * COPIES + "  return 0;\n}\n"


def in_many_functions():
    functions = "".join(f"__attribute__((noinline)) void f{i}(int by) {{ pass(by); }}\n" for i in range(COPIES))
    return HEAD + functions + "int main(int count, char **words) {\n" + "".join(
        f"  f{i}(count);\n" for i in range(COPIES)) + "  return 0;\n}\n"


def run(tool, place, program):
    start = time.monotonic()
    subprocess.run([tool, "hits", "--at", place, "--count", "1", program], check=True, capture_output=True)
    return time.monotonic() - start


def main():
    tool = os.path.abspath(sys.argv[1])
    with tempfile.TemporaryDirectory() as folder:
        for name, text in (("one function", in_one_function()), ("10,000 functions", in_many_functions())):
            source = os.path.join(folder, "copies.c")
            program = os.path.join(folder, "copies")
            with open(source, "w", encoding="utf-8") as file:
                file.write(text)
            subprocess.run(["gcc", "-O1", "-g", "-o", program, source], check=True)
            pairs = [(run(tool, f"copies.c:{LINE}", program), run(tool, "main+0", program)) for _ in range(15)]
            line, address = (statistics.median(side) for side in zip(*pairs))
            print(f"{name:18} the line {line:.3f} s, an address {address:.3f} s, the copies {line - address:.3f} s")


if __name__ == "__main__":
    main()
