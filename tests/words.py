#!/usr/bin/env python3
"""Words that stand nowhere in what people read, and nowhere in the code: each was replaced by the trade's own, which
follows it here.   usage: words.py FOLDER"""
import os
import re
import sys

REPLACED = {
    "near names": "similar names",
    "entry code": "prologue",
    "entry_ends": "prologue_end",
    "optimised out here": "no value here",
    "running needs them not": "not needed to run",
    "places that must be told": "relocations",
    "what exceptions find": "exception tables",
    "is data only": "executable stack: no",
    "stack checked": "stack protector",
    "checked library calls": "fortified library calls",
    "jump targets marked": "branch targets marked (IBT)",
    "looks first in": "run path",
    "functions under way": "call stack",
    "the kernel tells": "reported by the kernel",
    "source-map": "--source-moved",
    "linker-names": "--mangled",
    "save-forms": "--save-formats",
    "passage": "full speed",
    "lifted": "removed",
    "linkage stub": "PLT stub",
    "behind": "after, past",
    "was told": "was reported",
    "is told": "is reported, is known",
    "are told by": "are known by",
}
READ = (".h", ".cpp", ".py", ".md", ".sh", ".isa", ".calls", ".txt", ".c", ".s", ".plan")

root, bad, seen = sys.argv[1], 0, 0
for top in ("src", "docs", "demo", "bench", "examples", "tests", "README.md"):
    places = [root] if top.endswith(".md") else [os.path.join(root, top)]
    for start in places:
        for folder, folders, names in os.walk(start):
            if start == root:
                folders.clear()
            for name in names:
                path = os.path.join(folder, name)
                if not name.endswith(READ) or name == "words.py" or (start == root and name != top):
                    continue
                seen += 1
                text = open(path, encoding="utf-8").read()
                for old, new in REPLACED.items():
                    for match in re.finditer(r"(?<![\w])" + re.escape(old) + r"(?![\w])", text, re.IGNORECASE):
                        line = text.count("\n", 0, match.start()) + 1
                        print(f"{os.path.relpath(path, root)}:{line}: '{old}'; the word is: {new}")
                        bad += 1
print(f"{seen} files, {bad} words that were replaced")
sys.exit(1 if bad or seen < 100 else 0)
