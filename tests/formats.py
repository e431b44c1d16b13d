#!/usr/bin/env python3
"""Checks that the JSON of every command is valid, and that each of its keys is described on the command's page in
docs/formats.   usage: formats.py DEEPTRACE DEMO SOURCE"""
import json
import os
import re
import subprocess
import sys

deeptrace, demo, source = map(os.path.abspath, sys.argv[1:4])

COMMANDS = {
    "survey": ["survey tidelog tidelog-O2 gauge32", "survey --check ebb"],
    "listing": ["listing tidelog", "listing --meaning tidelog level_sum", "listing --all gauge32"],
    "lines": ["lines tidelog", "lines tidelog-O2 levels.c:31", "lines tidelog --at {level_sum}"],
    "data": ["data tidelog", "data buoy", "data sluice"],
    "uses": ["uses tidelog log_read", "uses tidelog printf"],
    "compare": ["compare tidelog tidelog-O2", "compare tidelog tidelog-O2 level_sum"],
    "explain": ["explain mov", "explain bytes 0f af c1", "explain flags 0x246", "explain register ah",
                "explain jle", "explain syscall fcntl", "explain fstat", "explain EFAULT", "explain signal 11",
                "explain constant O_CREAT", "explain convention microsoft-64",
                "explain frame tidelog level_sum",
                "explain passing long|f(const|char|*text,struct|{{long|a;double|b;}}|pair,...)"],
    "hits": ["hits --at levels.c:34 --keep sum,i tidelog readings.txt",
             "hits --on-write log.count --on-return level_sum tidelog readings.txt"],
    "steps": ["steps --from level_sum tidelog readings.txt", "steps --count 300 beacon",
              "steps --stack --from level_between --count 30 gauge32"],
    "plan": ["plan levels.plan tidelog readings.txt", "plan sluice.plan sluice"],
    "syscalls": ["syscalls beacon", "syscalls --all tidelog readings.txt"],
    "calls": ["calls tidelog readings.txt", "calls --check ebb kept"],
    "fault": ["fault reef number", "fault reef deep", "fault reef throw", "fault reef calm"],
}
RUNNING = {"hits", "steps", "plan", "fault", "syscalls", "calls"}
# What holds values: keys in it are members of the program's types, or registers.
VALUES = {"value", "left", "right", "before", "after", "changed"}


def keys_of(value, found):
    if isinstance(value, dict):
        for key, one in value.items():
            if re.fullmatch(r"h\d+", key):  # a stop point's name
                continue
            found.add(key)
            by_expression = key == "kept" and isinstance(one, dict)
            if key not in VALUES and not by_expression:
                keys_of(one, found)
    elif isinstance(value, list):
        for one in value:
            keys_of(one, found)


def address_of(function):
    out = subprocess.run([deeptrace, "listing", "tidelog", function, "--format", "json"], cwd=demo, capture_output=True,
                         text=True, check=True).stdout
    return json.loads(out)["functions"][0]["address"]


def main():
    bad = 0
    for command, lines in COMMANDS.items():
        with open(os.path.join(source, "docs/formats", command + ".md"), encoding="utf-8") as page:
            text = page.read()
        described = set(re.findall(r"[A-Za-z_]\w*", " ".join(re.findall(r"`([^`]*)`", text))))
        found = set()
        for line in lines:
            words = line.format(level_sum=address_of("level_sum") if "{level" in line else "").split()
            words = [word.replace("|", " ") for word in words]
            options = ["--format", "json"] + (["--program-output", "/dev/null"] if command in RUNNING else [])
            done = subprocess.run([deeptrace, words[0], *options, *words[1:]], cwd=demo, capture_output=True, text=True,
                                  check=False)
            try:
                keys_of(json.loads(done.stdout), found)
            except ValueError as error:
                print(f"{line}: no JSON: {error}; {done.stderr.strip()}")
                bad += 1
        for key in sorted(found - described):
            print(f"docs/formats/{command}.md does not describe `{key}`")
            bad += 1
    print(f"{len(COMMANDS)} commands, {bad} faults")
    sys.exit(1 if bad else 0)


main()
