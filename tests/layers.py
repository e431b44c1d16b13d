#!/usr/bin/env python3
"""Checks that includes between the layers of src/ point one way (docs/architecture.md).   usage: layers.py SRC"""
import os
import re
import sys

# A layer may include itself and the layers named here.
CORE = ["base", "arch", "binary", "isa", "state", "debuginfo", "program", "abi"]
ALLOWED = {
    "base": [],
    "arch": ["base"],
    "binary": ["base", "arch"],
    "isa": ["base", "arch"],
    "state": ["base", "arch", "isa"],
    "debuginfo": ["base", "arch", "binary", "isa", "state"],
    "program": ["base", "arch", "binary", "isa", "state", "debuginfo"],
    "abi": ["base", "arch", "binary", "isa", "state", "debuginfo", "program"],
    "inspect": CORE,
    "process": CORE,
    "corefile": CORE,
    "recording": CORE,
    "look": CORE + ["inspect"],
    "study": CORE + ["inspect", "corefile"],
    "control": CORE + ["inspect", "look", "process"],
    "session": CORE + ["inspect", "look", "control", "process", "corefile", "recording"],
    "report": CORE + ["inspect", "look", "process", "study", "control", "session"],
    "cli": CORE + ["inspect", "look", "process", "study", "control", "session", "report"],
}

root, bad, seen = sys.argv[1], 0, 0
for folder, _, names in os.walk(root):
    for name in names:
        if not name.endswith((".h", ".cpp")):
            continue
        path = os.path.relpath(os.path.join(folder, name), root)
        parts = path.split(os.sep)
        layer = parts[1] if parts[0] == "core" else parts[0]
        seen += 1
        for number, line in enumerate(open(os.path.join(root, path), encoding="utf-8"), 1):
            match = re.match(r'#include "([a-z]+)/', line)
            if match and match[1] != layer and match[1] not in ALLOWED[layer]:
                print(f"{path}:{number}: {layer} may not include {match[1]}")
                bad += 1
            if parts[0] == "core" and re.match(r"#include <(iostream|fmt/|cxxopts|nlohmann)", line):
                print(f"{path}:{number}: the core has no interface code")
                bad += 1
print(f"{seen} files, {bad} wrong includes")
sys.exit(1 if bad or seen < 20 else 0)
