#!/usr/bin/env python3
"""What `calls` costs a program.   usage: function_calls.py DEEPTRACE [CALLS]

A loop beside 10,000 watched functions that are never called, against the loop alone: the program's own clock, medians of
seven, alternating (wanted: 0.98). Memory of the tool at CALLS calls and at ten times as many. The rate of stops at entry
and return is in bench/stops_rate."""
import os
import resource
import statistics
import subprocess
import sys
import tempfile

FUNCTIONS = 10000
LOOP = """
#include <stdio.h>
#include <time.h>
%s
int main(int count, char **words) {
  struct timespec from, to;
  volatile unsigned long sum = 0;
  clock_gettime(CLOCK_MONOTONIC, &from);
  for (unsigned long i = 0; i < 300000000; ++i) sum += i;
  clock_gettime(CLOCK_MONOTONIC, &to);
  if (count > 5) %s;
  fprintf(stderr, "%%f\\n", to.tv_sec - from.tv_sec + (to.tv_nsec - from.tv_nsec) / 1e9);
  return 0;
}
"""
MANY = """
#include <stdlib.h>
__attribute__((noinline)) long level(long a) { __asm__ volatile(""); return a + 1; }
int main(int count, char **words) { long n = atol(words[1]), a = 0; while (n--) a = level(a); return 0; }
"""


def build(folder, name, text):
    source, program = os.path.join(folder, name + ".c"), os.path.join(folder, name)
    with open(source, "w", encoding="utf-8") as file:
        file.write(text)
    subprocess.run(["gcc", "-g1", "-O1", "-o", program, source], check=True)
    return program


def seconds(words):
    return float(subprocess.run(words, capture_output=True, text=True, check=True).stderr.split()[-1])


def peak(words):
    """Kilobytes that a command and its children took at most, measured in a process of its own."""
    done = subprocess.run([sys.executable, __file__, "--peak", *words], capture_output=True, text=True, check=True)
    return int(done.stdout)


def main():
    if sys.argv[1] == "--peak":
        subprocess.run(sys.argv[2:], stdout=subprocess.DEVNULL, check=True)
        print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
        return
    tool = os.path.abspath(sys.argv[1])
    calls = int(sys.argv[2]) if len(sys.argv) > 2 else 20000
    with tempfile.TemporaryDirectory() as folder:
        functions = "\n".join(f"__attribute__((noinline)) int f{i}(int a) {{ return a * {i}; }}" for i in range(FUNCTIONS))
        program = build(folder, "loop", LOOP % (functions, " + ".join(f"f{i}(count)" for i in range(FUNCTIONS))))
        alone, watched = [], []
        for _ in range(7):
            alone.append(seconds([program]))
            watched.append(seconds([tool, "calls", "--format", "none", program]))
        a, b = statistics.median(alone), statistics.median(watched)
        print(f"a loop beside {FUNCTIONS} watched functions: {b:.3f} s, alone {a:.3f} s, ratio {a / b:.3f}")
        many = build(folder, "many", MANY)
        for count in (calls, 10 * calls):
            used = peak([tool, "calls", "--format", "csv", many, str(count)])
            print(f"{count} calls: {used} KB")


main()
