#!/usr/bin/env python3
"""Crashes with one cause each: what `fault` says of them, live and of their core files, and of their twins without the
mistake.   usage: wrecks.py TOOL SOURCES

A program's words are those that it prints when it is run without one. The line that has to be named as the developer's
own carries a comment with the kinds of finding that may come first."""
import concurrent.futures
import json
import os
import re
import resource
import subprocess
import sys
import tempfile

C = ["-g", "-O0", "-w", "-fno-builtin", "-msse2", "-fstack-protector-strong"]
CPP = C + ["-std=c++17", "-pthread"]
BUILDS = [
    ("wrecks.c", ["gcc", "-m64"], C + ["-lm"], True), ("wrecks.c", ["gcc", "-m32"], C + ["-lm"], False),
    ("wrecks.c", ["clang", "-m64"], C + ["-lm"], False), ("wrecks.c", ["clang", "-m32"], C + ["-lm"], True),
    ("wrecks.c", ["gcc", "-m64"], C + ["-O2", "-lm"], False), ("wrecks.c", ["clang", "-m64"], C + ["-O2", "-lm"], False),
    ("wrecks.cpp", ["g++", "-m64"], CPP, True), ("wrecks.cpp", ["clang++", "-m64"], CPP, False),
    ("wrecks.cpp", ["g++", "-m32"], CPP, False),
    ("wrecks.S", ["gcc", "-m64"], ["-g", "-nostdlib", "-static", "-no-pie"], True),
]


KINDS = set(re.findall(r"`([a-z_]+)`", open(os.path.join(os.path.dirname(os.path.abspath(__file__)),
                                                        "../docs/formats/fault.md"), encoding="utf-8").read()))


def expectations(source):
    """Kinds by line."""
    result = {}
    with open(source, encoding="utf-8") as file:
        for number, line in enumerate(file, 1):
            found = re.search(r"// ([a-z_ ]+)$", line.rstrip())
            if found and set(found.group(1).split()) <= KINDS:
                result[number] = found.group(1).split()
    return result


def answer(words):
    done = subprocess.run(words, capture_output=True, text=True, timeout=120, check=False)
    try:
        return done, json.loads(done.stdout)
    except ValueError:
        return done, None


def judge(name, done, said, kinds):
    """What is wrong with an answer; empty when nothing is."""
    if done.returncode != 0 or said is None or said["fault"] is None:
        return f"{name}: status {done.returncode}, {done.stderr.strip()[:200]} {done.stdout[:200]}"
    fault = said["fault"]
    if not fault["findings"]:
        return f"{name}: no finding"
    first = fault["findings"][0]
    lines = [one["line"] if one and one["file"] and "wrecks" in one["file"] else None for one in (first, fault["own"])]
    if first["kind"] == "stack_protector" and first["function"].startswith("label"):
        return ""  # compilers give that call no line, or the last
    expected = next((kinds[line] for line in lines if line in kinds), None)
    if expected is None:
        return f"{name}: lines {lines}: {first['kind']}: {first['text']}"
    if first["kind"] not in expected:
        return f"{name}: line {lines[0]} has {first['kind']} ({first['text']}), and not {' or '.join(expected)}"
    if any(line not in kinds for line in lines[1:] if fault["own"] and first["kind"] != "stack_protector"):
        return f"{name}: the own line is {lines[1]}"
    return ""


def core_of(program, word, folder):
    inside = os.path.join(folder, os.path.basename(program) + "-" + word)
    os.makedirs(inside)

    def unlimited():
        resource.setrlimit(resource.RLIMIT_CORE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))

    subprocess.run([program, word], cwd=inside, capture_output=True, preexec_fn=unlimited, check=False)
    found = [file for file in os.listdir(inside) if "core" in file]
    return os.path.join(inside, found[0]) if found else None


def check(tool, program, right, word, kinds, with_core, folder, optimised):
    name = f"{os.path.basename(program)} {word}"
    live = [tool, "fault", "--format", "json", "--program-output", "/dev/null"]
    done, said = answer(live + [program, word])
    if optimised and done.returncode == 1 and said and said["fault"] is None:
        return [], 0  # the compiler has left the mistake out
    wrong = judge(name, done, said, kinds)
    wrong = [wrong] if wrong else []
    done, twin = answer(live + [right, word])
    if done.returncode != 1 or twin is None or twin["fault"] is not None:
        wrong.append(f"{name}, twin without the mistake: {done.stdout[:300]} {done.stderr[:200]}")
    cores = 0
    if with_core and (core := core_of(program, word, folder)):
        done, dead = answer([tool, "fault", "--format", "json", "--core", core, program])
        cores = 1
        problem = judge(name + " (core)", done, dead, kinds)
        if problem:
            wrong.append(problem)
        elif said and said["fault"] and [one["kind"] for one in dead["fault"]["findings"]] != [
                one["kind"] for one in said["fault"]["findings"]]:
            wrong.append(f"{name}: the core file's findings differ: "
                         f"{[one['kind'] for one in dead['fault']['findings']]}")
    return wrong, cores


def main():
    tool, sources = os.path.abspath(sys.argv[1]), sys.argv[2]
    failures, programs, cores = [], 0, 0
    with tempfile.TemporaryDirectory() as folder, concurrent.futures.ThreadPoolExecutor(2) as pool:
        jobs = []
        for source, compiler, options, with_core in BUILDS:
            path = os.path.join(sources, source)
            if not os.path.exists(path):
                continue
            made = []
            optimised = "-O2" in options
            for extra, suffix in (([], ""), (["-DRIGHT"], "-right")):
                level = "-O2" if optimised else ""
                program = os.path.join(folder, f"{source}-{''.join(compiler)}{level}{suffix}".replace(".", "-"))
                subprocess.run(compiler + extra + ["-o", program, path] + options, check=True)
                made.append(program)
            words = subprocess.run([made[0]], capture_output=True, text=True, check=False).stdout.split()
            kinds = expectations(path)
            for word in words:
                jobs.append(pool.submit(check, tool, made[0], made[1], word, kinds, with_core, folder, optimised))
        for job in jobs:
            wrong, core = job.result()
            programs += 1
            cores += core
            failures += wrong
    print(f"{programs} crashes, {cores} of them from core files too, each with its twin: {len(failures)} wrong")
    for one in failures[:60]:
        print("  " + one[:400])
    sys.exit(1 if failures or programs == 0 else 0)


if __name__ == "__main__":
    main()
