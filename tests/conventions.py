#!/usr/bin/env python3
"""Arguments and results by the calling convention, against two compilers.   usage: conventions.py TOOL [PROGRAMS [SEED]]

Programs of 25 functions whose parameters and results have types of all kinds. At a function's first instruction arg(1)
and so on are found by their types alone; after its prologue the compiler's debug information says where the parameters
are; both must hold the same. What a function returns is compared with the variable that it returns a copy of. `calls`
must read the same of each call."""
import json
import os
import random
import re
import subprocess
import sys
import tempfile

FUNCTIONS = 25
STRUCTURES = 24
BUILDS = [(compiler, width, version) for compiler in ("g++", "clang++") for width in (64, 32) for version in (5, 4)]
SCALARS = ["char", "signed char", "short", "unsigned short", "int", "unsigned", "long", "long long", "float", "double",
           "float", "double", "void *", "const char *", "bool", "long double", "_Complex float", "_Complex double"]


class Program:
    def __init__(self, seed, wide):
        self.random = random.Random(seed)
        self.scalars = SCALARS + (["__int128", "_Complex long double", "Vector"] if wide else ["Vector"])
        self.plain = []  # structures that may be members and bases
        self.kinds = {}
        self.text = ("#include <string.h>\ntypedef int Vector __attribute__((vector_size(16)));\nstruct Empty {};\n"
                     "static void fill(void *at, unsigned long size, unsigned char first) {\n"
                     "  unsigned char *byte = (unsigned char *)at;\n"
                     "  for (unsigned long i = 0; i < size; ++i) byte[i] = first++ % 60 + 1;\n}\n")
        for number in range(STRUCTURES):
            self.structure(f"S{number}")
        self.calls = []
        for number in range(FUNCTIONS):
            self.function(number)
        self.text += "int main() {\n" + "".join(f"  {one};\n" for one in self.calls) + "  return 0;\n}\n"

    def structure(self, name):
        kind = self.random.choice(["plain"] * 6 + ["union", "derived", "of nothing", "virtual", "destroyed", "copied",
                                                   "destroyed by default", "packed", "aligned"])
        classes = [one for one in self.plain if self.kinds[one] != "union"]
        if kind == "derived" and not classes:
            kind = "plain"
        bases = {"derived": f" : {self.random.choice(classes or ['Empty'])}", "of nothing": " : Empty"}
        members = ""
        for number in range(self.random.choice([1, 1, 2, 2, 3, 4])):
            member = f"{name.lower()}_{number}"
            how = self.random.randrange(8)
            if how == 0:
                members += f"  unsigned {member} : {self.random.randint(1, 31)};\n"
            elif how == 1:
                members += f"  {self.random.choice(self.scalars)} {member}[{self.random.randint(1, 3)}];\n"
            elif how == 2 and self.plain:
                members += f"  {self.random.choice(self.plain + ['Empty'])} {member};\n"
            else:
                members += f"  {self.random.choice(self.scalars)} {member};\n"
        members += {"virtual": "  virtual int turn() { return 1; }\n", "destroyed": f"  ~{name}() {{}}\n",
                    "copied": f"  {name}() {{}}\n  {name}(const {name} &other) {{ memcpy((void *)this, &other, sizeof other); }}\n",
                    "destroyed by default": f"  ~{name}() = default;\n"}.get(kind, "")
        if kind == "packed":  # debug information shows it by an odd size alone
            members += f"  char {name.lower()}_end;\n"
        attribute = {"packed": " __attribute__((packed))", "aligned": " __attribute__((aligned(16)))"}.get(kind, "")
        word = "union" if kind == "union" else "struct"
        self.text += f"{word}{attribute} {name}{bases.get(kind, '')} {{\n{members}}};\n"
        self.kinds[name] = kind
        if kind in ("plain", "union", "of nothing", "destroyed by default"):
            self.plain.append(name)

    def variable(self, name):
        """A global variable of some type, filled in by main."""
        kind = self.random.random()
        type_name = self.random.choice(self.scalars) if kind < 0.5 else self.random.choice(list(self.kinds) + ["Empty"])
        self.text += f"{type_name} {name};\n"
        if type_name == "bool":
            self.calls.append(f"{name} = true")
        elif type_name in self.scalars and type_name != "Vector" and not type_name.endswith("*"):
            self.calls.append(f"{name} = {self.random.randint(1, 100)}")
        elif type_name != "Empty" and self.kinds.get(type_name) != "virtual":
            self.calls.append(f"fill(&{name}, sizeof {name}, {self.random.randrange(60)})")
        return type_name

    def function(self, number):
        count = 8 if number == 0 else self.random.randint(1, 8)  # so that every name stands for something
        names = [f"given{number}_{place}" for place in range(1, count + 1)]
        types = [self.variable(name) for name in names]
        result = self.variable(f"back{number}")
        parameters = ", ".join(f"{kind} a{place}" for place, kind in enumerate(types, 1))
        self.text += f"__attribute__((noinline)) {result} f{number}({parameters}) {{\n  return back{number};\n}}\n"
        self.calls.append(f"f{number}({', '.join(names)})")


def kept(tool, program, rules, keep):
    words = [tool, "hits", "--format", "json", "--program-output", "/dev/null", "--keep", keep]
    for rule in rules:
        words += ["--halt", rule]
    done = subprocess.run(words + [program], capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise Refused(done.stderr)
    return {hit["stop"]: hit["kept"] for hit in json.loads(done.stdout)["hits"]}


def parameters(tool, program, numbers):
    """Parameters by their names, by stop. Where the compiler describes one of a function not at all, that is unknown."""
    try:
        return kept(tool, program, [f"at f{i}" for i in range(FUNCTIONS)], ",".join(f"a{i}" for i in numbers))
    except Refused:
        pass
    found = {}
    for i in range(FUNCTIONS):
        names = [f"a{number}" for number in numbers]
        while True:
            try:
                values = kept(tool, program, [f"at f{i}"], ",".join(names))["h1"]
                break
            except Refused as refused:
                missing = re.match(r"deeptrace: (a\d+): no register", str(refused))
                if missing is None or missing[1] not in names:
                    raise
                names.remove(missing[1])
        found[f"h{i + 1}"] = {f"a{number}": values.get(f"a{number}", {"unknown": "not described"}) for number in numbers}
    return found


class Refused(Exception):
    pass


def calls(tool, program):
    """Arguments and results by function, as `calls` has them."""
    words = [tool, "calls", "--format", "json", "--depth", "2", "--program-output", "/dev/null", program]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    if done.returncode != 0:
        sys.exit(f"{program}: {done.stderr}")
    found = {}
    for call in json.loads(done.stdout)["calls"]:
        found[call["function"].split("(")[0]] = call
    return found


def compare(tool, program):
    """How many values were compared, and those that differ."""
    numbers = range(1, 9)
    passed = kept(tool, program, [f"at f{i}+0" for i in range(FUNCTIONS)], ",".join(f"arg({i})" for i in numbers))
    named = parameters(tool, program, numbers)
    backs = ",".join(f"back{i}" for i in range(FUNCTIONS))
    returned = kept(tool, program, [f"on return f{i}" for i in range(FUNCTIONS)], "result," + backs)
    called = calls(tool, program)
    compared, wrong = 0, []

    def check(what, found, expected):
        nonlocal compared
        if "unknown" in expected or not has_bytes(expected) or "only some of the parameters" in str(found):
            return
        compared += 1
        found, expected = without_padding(found), without_padding(expected)
        if found != expected and not is_real_on_stack(found, expected):
            wrong.append(f"{what}: {json.dumps(found)[:80]} and not {json.dumps(expected)[:80]}")

    for i in range(FUNCTIONS):
        stop = f"h{i + 1}"
        for place in numbers:
            check(f"argument {place} of f{i}", passed[stop][f"arg({place})"], named[stop][f"a{place}"])
            arguments = {one["name"]: one["value"] or one["shown"] for one in called[f"f{i}"]["arguments"]}
            if f"a{place}" in arguments:
                check(f"calls: argument {place} of f{i}", arguments[f"a{place}"], named[stop][f"a{place}"])
            elif "unknown" not in named[stop][f"a{place}"]:
                wrong.append(f"calls: argument {place} of f{i} is not there")
        check(f"result of f{i}", returned[stop]["result"], returned[stop][f"back{i}"])
        check(f"calls: result of f{i}", called[f"f{i}"]["result"]["value"], returned[stop][f"back{i}"])
    return compared, wrong


def without_padding(value):
    """A long double has ten bytes; what lies after them is nobody's."""
    if isinstance(value, list):
        return [without_padding(one) for one in value]
    if not isinstance(value, dict):
        return value
    if "bytes" in value and "signed" not in value:
        return {**value, "bytes": value["bytes"][:20]}
    return {name: without_padding(one) for name, one in value.items()}


def has_bytes(value):
    if isinstance(value, list):
        return any(has_bytes(one) for one in value)
    return not isinstance(value, dict) or any(has_bytes(one) for one in value.values())


def is_real_on_stack(found, expected):
    """A float that came back in a register of the floating-point unit: the same number at another width."""
    return "text" in found and "text" in expected and "bytes" in found and found["text"] == expected["text"]


def main():
    tool = os.path.abspath(sys.argv[1])
    programs = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    first = int(sys.argv[3]) if len(sys.argv) > 3 else 1
    failed = False
    with tempfile.TemporaryDirectory() as folder:
        for compiler, width, version in BUILDS:
            total, wrong = 0, []
            for seed in range(first, first + programs):
                source = os.path.join(folder, "passing.cpp")
                program = os.path.join(folder, "passing")
                with open(source, "w", encoding="utf-8") as file:
                    file.write(Program(seed, width == 64).text)
                subprocess.run([compiler, f"-m{width}", "-msse2", f"-gdwarf-{version}", "-w", "-Wno-psabi", "-O0", "-o", program, source],
                               check=True)
                compared, differ = compare(tool, program)
                total += compared
                wrong += [f"seed {seed}: {one}" for one in differ]
            print(f"{compiler:8} {width} bits, DWARF {version}: {total} values compared, {len(wrong)} wrong")
            for one in wrong[:8]:
                print("  " + one)
            failed |= bool(wrong) or total == 0
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
