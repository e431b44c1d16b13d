#!/usr/bin/env python3
"""Checks that the commands of the guide's pages say what the pages show: each line that stands below a command is a line of
its output, in that order; numbers may be others.   usage: guide.py DEEPTRACE DEMO SOURCE"""
import glob
import os
import re
import subprocess
import sys

deeptrace, demo, source = map(os.path.abspath, sys.argv[1:4])


def plain(line):
    """Without numbers, which the compiler, the machine and the clock decide, and without the width of columns."""
    line = re.sub(r"0x[0-9a-f]+|\b[0-9a-f]{2}( [0-9a-f]{2})+\b", "H", line)
    line = re.sub(r"\d+", "N", line)
    return " ".join(re.sub(r"[+-](H|N)\b", "+N", line).split())


def blocks_of(page):
    """Commands with the lines that are shown below them."""
    for block in re.findall(r"^```\n(\$ .*?)^```", page, re.M | re.S):
        command, *shown = block.rstrip("\n").split("\n")
        yield command[2:], [line for line in shown if line.strip()]


def missing(shown, said):
    """The first line that does not come in turn; None where all do."""
    lines = iter([plain(line) for line in said.split("\n")])
    return next((line for line in shown if plain(line) not in lines), None)


environment = dict(os.environ, LC_ALL="C.UTF-8", DEEPTRACE_CONFIG="", TERM="dumb",
                   PATH=os.path.dirname(deeptrace) + ":" + os.environ["PATH"])
wrong = commands = 0
for path in sorted(glob.glob(os.path.join(source, "docs/guide/*.md"))):
    with open(path, encoding="utf-8") as page:
        for command, shown in blocks_of(page.read()):
            run = subprocess.run(["bash", "-c", command], cwd=demo, env=environment, stdin=subprocess.DEVNULL,
                                 capture_output=True, timeout=60)
            commands += 1
            said = (run.stdout + run.stderr).decode(errors="replace")
            lost = missing(shown, said)
            if lost is not None or run.returncode > 1:
                wrong += 1
                print(f"{os.path.basename(path)}: $ {command}\n  status {run.returncode}; does not say: {lost}")
print(f"{commands} commands of the guide, {wrong} that say something else")
sys.exit(1 if wrong or commands == 0 else 0)
