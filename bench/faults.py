#!/usr/bin/env python3
"""How long a fault takes to be explained.   usage: faults.py DEEPTRACE

`fault` of a small program against its plain run, and of one that dies 10,000 calls deep against the same 10 calls deep,
whose frames the difference is. Aims: 0.2 s and 0.05 s. Medians of fifteen, alternating."""
import os
import statistics
import subprocess
import sys
import tempfile
import time

SOURCE = r"""
#include <stdlib.h>
__attribute__((noinline)) int deep(int depth, int *level) {
  volatile int here = depth;
  if (depth == 0) return *level;
  return deep(depth - 1, level) + here;
}
int main(int argc, char **argv) { return deep(atoi(argv[1]), 0); }
"""


def seconds(words):
    start = time.monotonic()
    subprocess.run(words, capture_output=True, check=False)
    return time.monotonic() - start


def main():
    tool = os.path.abspath(sys.argv[1])
    with tempfile.TemporaryDirectory() as folder:
        source, program = os.path.join(folder, "deep.c"), os.path.join(folder, "deep")
        with open(source, "w", encoding="utf-8") as file:
            file.write(SOURCE)
        subprocess.run(["gcc", "-g", "-O0", "-o", program, source], check=True)
        runs = [(seconds([program, "10"]), seconds([tool, "fault", program, "10"]), seconds([tool, "fault", program, "10000"]))
                for _ in range(15)]
        plain, small, deep = (statistics.median(side) for side in zip(*runs))
        print(f"a small program: plain run {plain:.3f} s, fault {small:.3f} s, {small - plain:.3f} s more")
        print(f"10,000 calls deep: fault {deep:.3f} s, the frames {deep - small:.3f} s")


if __name__ == "__main__":
    main()
