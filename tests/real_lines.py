#!/usr/bin/env python3
"""Line stops in real packages against what the compiler's coverage counts of the same run.

usage: real_lines.py DEEPTRACE FOLDER [COMPILERS [LEVELS]]

FOLDER holds unpacked sources: lua-*, bzip2-*, zlib-*, tinyxml2-*, cJSON-* (any of them). Each is built at -O0 with
gcc --coverage and run; gcov says how often every line was come to (of a line with several blocks: how often from outside
them, and by jumps back). Then it is built with each compiler and level, and stops at a sample of its lines have to count
the same. Without optimisation all must. Optimisers move and merge what has no effect to be kept, so that a line may be
come to less often than the source says: what is printed there are shares, and lines that were never come to though
their code is there."""
import collections
import glob
import json
import os
import random
import re
import subprocess
import sys
import tempfile

XML = """#include "tinyxml2.h"
#include <cstdio>
using namespace tinyxml2;
int main() {
  XMLDocument doc;
  if (doc.Parse("<?xml version='1.0'?><tide unit='mm'><!-- log --><level n='1'>1240</level><level n='2'>1685 &amp; up"
                "</level><empty/><![CDATA[raw <text>]]></tide>") != XML_SUCCESS) return 1;
  int sum = 0;
  for (XMLElement *e = doc.RootElement()->FirstChildElement("level"); e; e = e->NextSiblingElement("level"))
    sum += e->IntAttribute("n") * 100 + (int)std::strlen(e->GetText());
  XMLElement *added = doc.NewElement("sum");
  added->SetAttribute("value", sum);
  doc.RootElement()->InsertEndChild(added);
  XMLPrinter printer;
  doc.Print(&printer);
  std::puts(printer.CStr());
  return 0;
}
"""
JSON = """#include "cJSON.h"
#include <stdio.h>
#include <stdlib.h>
int main(void) {
  cJSON *all = cJSON_Parse("{\\"station\\": \\"Grayling\\", \\"levels\\": [1240, 1685.5, -3, 2e3], \\"ok\\": true,"
                           "\\"none\\": null, \\"text\\": \\"a\\\\n\\\\u00e4\\"}");
  if (all == NULL) return 1;
  cJSON *levels = cJSON_GetObjectItemCaseSensitive(all, "levels"), *one;
  double sum = 0;
  cJSON_ArrayForEach(one, levels) sum += one->valuedouble;
  cJSON_AddNumberToObject(all, "sum", sum);
  char *text = cJSON_Print(all);
  puts(text);
  free(text);
  cJSON *copy = cJSON_Duplicate(all, 1);
  int same = cJSON_Compare(all, copy, 1);
  cJSON_Delete(copy);
  cJSON_Delete(all);
  return !same;
}
"""
LUA = """local levels = {1240, 1685, 2310, 980}
table.sort(levels)
local t = setmetatable({}, {__index = function(_, k) return k .. "!" end})
local s = 0
for i, v in ipairs(levels) do s = s + v // i end
print(s, t.pier, ("tide %d"):format(s), #levels, select("#", 1, 2, 3))
print(pcall(error, "gone"), string.rep("ab", 3), ("north,south"):gsub("%a+", string.upper))
"""


class Package:
    def __init__(self, name, sources, options=(), arguments=(), stdin=None, files=None, plus=False, libraries=()):
        self.name, self.sources, self.options, self.arguments = name, sources, list(options), list(arguments)
        self.stdin, self.files, self.plus, self.libraries = stdin, files or {}, plus, list(libraries)


def packages(folder):
    def found(pattern):
        return [one for one in glob.glob(os.path.join(folder, pattern)) if os.path.isdir(one)]
    text = ("north 1240 south 1685 pier 2310 " * 20).encode()
    for root in found("lua-*"):
        sources = [one for one in sorted(glob.glob(root + "/src/*.c")) if not one.endswith("luac.c")]
        yield Package("lua", sources, ["-DLUA_USE_POSIX", "-Dluai_makeseed(L)=7u"], ["script.lua"], files={"script.lua": LUA}, libraries=["-lm"])
    for root in found("bzip2-*"):
        names = "blocksort huffman crctable randtable compress decompress bzlib bzip2".split()
        yield Package("bzip2", [f"{root}/{one}.c" for one in names], [], ["-c", "-1", "text"],
                      files={"text": text.decode()})
    for root in found("zlib-*"):
        yield Package("zlib", sorted(glob.glob(root + "/*.c")) + [root + "/test/minigzip.c"],
                      ["-I" + root, "-DHAVE_UNISTD_H"], ["-c", "text"], files={"text": text.decode()})
    for root in found("tinyxml2-*"):
        yield Package("tinyxml2", [root + "/tinyxml2.cpp", "main.cpp"], ["-I" + root], files={"main.cpp": XML}, plus=True)
    for root in found("cJSON-*"):
        yield Package("cJSON", [root + "/cJSON.c", "main.c"], ["-I" + root], files={"main.c": JSON}, libraries=["-lm"])


def build(package, compiler, options, folder, name):
    if package.plus:
        compiler = {"gcc": "g++", "clang": "clang++"}[compiler]
    subprocess.run([compiler, "-w", *options, *package.options, "-o", name, *package.sources, *package.libraries],
                   cwd=folder, check=True, stdin=subprocess.DEVNULL)


def true_counts(package, folder):
    """By file name and line, of the files that are compiled."""
    build(package, "gcc", ["-O0", "-g", "--coverage"], folder, "program")
    subprocess.run(["./program", *package.arguments], cwd=folder, check=True, capture_output=True)
    counts = {}
    notes = [one for one in os.listdir(folder) if one.endswith(".gcda")]
    run = subprocess.run(["gcov", "--json-format", "--stdout", *notes], cwd=folder, capture_output=True, check=True)
    for text in run.stdout.decode().splitlines():
        for file in json.loads(text)["files"]:
            name = os.path.basename(file["file"])
            if not name.endswith((".c", ".cpp")):
                continue
            lines = collections.Counter()
            for one in file["lines"]:  # instances of templates have lines of their own
                lines[one["line_number"]] += one["count"]
            counts.update({(name, line): count for line, count in lines.items()})
    return counts


def hits_at(tool, package, folder, places):
    """By place, without those that have no code."""
    places = list(places)
    while True:
        told = hits_or_refused(tool, package, folder, places)
        if isinstance(told, dict):
            return told
        places.remove(told)


def hits_or_refused(tool, package, folder, places):
    words = [word for file, line in places for word in ("--at", f"{file}:{line}")]
    run = subprocess.run([tool, "hits", *words, "--format", "json", "--program-output", "/dev/null", "./program",
                          *package.arguments], cwd=folder, capture_output=True, text=True)
    refused = re.match(r"deeptrace: (\S+):(\d+): (?:that line|no code|no such|no source)", run.stderr)
    if refused:
        return (refused[1], int(refused[2]))
    hits = collections.Counter(hit["stop"] for hit in json.loads(run.stdout)["hits"])
    return {place: hits[f"h{number}"] for number, place in enumerate(places, 1)}


def main():
    tool, folder = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
    compilers = sys.argv[3].split(",") if len(sys.argv) > 3 else ["gcc", "clang"]
    levels = sys.argv[4].split(",") if len(sys.argv) > 4 else ["-O0", "-O2"]
    failed = False
    for package in packages(folder):
        with tempfile.TemporaryDirectory() as place:
            for name, text in package.files.items():
                with open(os.path.join(place, name), "w") as file:
                    file.write(text)
            counts = true_counts(package, place)
            # Lines that are passed often cost too much.
            usable = sorted(one for one, count in counts.items() if count <= 300)
            passed = [one for one in usable if counts[one]]
            chosen = sorted(random.Random(1).sample(passed, min(400, len(passed))) +
                            random.Random(2).sample([one for one in usable if not counts[one]],
                                                    min(40, len(usable) - len(passed))))
            for compiler in compilers:
                for level in levels:
                    build(package, compiler, ["-g", level], place, "program")
                    told = hits_at(tool, package, place, chosen)
                    wrong = [(one, counts[one], hits) for one, hits in told.items() if hits != counts[one]]
                    few = sum(hits < count for _, count, hits in wrong)
                    never = [one for one, count, hits in wrong if hits == 0]
                    print(f"{package.name} {compiler} {level}: {len(told)} lines, {sum(told.values())} passes: "
                          f"{len(wrong)} wrong ({few} too few, {len(wrong) - few} too many, {len(never)} never)",
                          flush=True)
                    for (file, line), count, hits in wrong:
                        if level == "-O0" or hits == 0:
                            print(f"  {file}:{line}: {count} passes, {hits} hits")
                    failed |= level == "-O0" and len(wrong) * 100 > len(told)
    return failed


if __name__ == "__main__":
    sys.exit(main())
