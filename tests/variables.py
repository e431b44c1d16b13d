#!/usr/bin/env python3
"""Variables and inlined frames of generated programs against what the programs say of themselves.

usage: variables.py DEEPTRACE [FIRST_SEED COUNT [BUILD,…]]

A generated program calls mark() at many places. Built with -DLOG it prints there the values of its variables, and which
functions have been entered, as the source has them; such a build knows nothing of optimisation. The other builds have the
calls alone: at each of them the frames have to be the same functions, inlined ones too, and a variable of the frame that
called has to have the logged value, or be said to have none. How many have none is printed for each build.

With optimisation compilers themselves describe a few values wrongly: gcc takes a parameter for unchanged in a loop, clang
leaves out that a variable changed when only a debugger would see it; both put calls in two functions together. Most of
it can be told (look/value_doubts.h); the share of the rest is bounded by what was seen (MOST, MOST_FRAMES). In the
programs that are looked at without arguments no value may be wrong."""
import collections
import itertools
import os
import random
import re
import struct
import subprocess
import sys
import tempfile

BUILDS = {f"{compiler}{bits} {level}{more}": [compiler, *([bits] if bits else []), level, *more.split()]
          for compiler in ("gcc", "clang") for bits in ("", " -m32") for level in ("-O0", "-O1", "-O2", "-Os", "-O3")
          for more in ("", " -fomit-frame-pointer", " -gdwarf-4")
          if not more or (level == "-O2" and more != " -fomit-frame-pointer") or (level == "-O1" and not bits)}
BUILDS = {name: [word for part in words for word in part.split()] for name, words in BUILDS.items()}
COMMON = ["-g", "-w", "-fwrapv", "-ffp-contract=off", "-msse2", "-mfpmath=sse"]
MARKS = 120  # looked at in one run
MOST = {"-O0": 0, "-Os": 8}  # wrong values, of a thousand; else 1
MOST_FRAMES = {"-O0": 0, "-Os": 8}
SHORT = ("gcc -O0", "gcc -O1", "gcc -O2", "gcc -Os", "gcc -m32 -O0", "gcc -m32 -O2", "clang -O0", "clang -O2", "clang -O3",
         "clang -m32 -O0", "clang -m32 -O2", "gcc -O2 -gdwarf-4", "clang -O2 -gdwarf-4")
# Programs whose values were wrong, each for a reason of its own.
ONCE_WRONG = {31: ["clang -m32 -O2"], 39: ["clang -O2"], 44: ["clang -O2"], 47: ["gcc -O2"], 48: ["clang -O2"],
              51: ["gcc -O2"], 53: ["clang -O2"], 54: ["clang -O2"], 206: ["clang -O2"], 302: ["gcc -O2"], 310: ["gcc -O2"],
              312: ["clang -O2"], 349: ["gcc -O2"], 366: ["clang -O2"], 387: ["gcc -O2"], 429: ["gcc -O2"],
              418: ["clang -O2"], 465: ["gcc -O2"], 216: ["gcc -O2"], 324: ["clang -O2"], 386: ["clang -O2"],
              406: ["gcc -O2"], 442: ["clang -O2"], 454: ["clang -O2"], 470: ["gcc -O2"], 476: ["clang -O2"],
              509: ["clang -O2"], 596: ["gcc -O2"], 636: ["gcc -O2"], 652: ["clang -O2"], 719: ["clang -O2"],
              747: ["clang -O2"], 766: ["gcc -O2"], 775: ["gcc -O2"], 315: ["clang -O2"], 333: ["clang -O2"],
              562: ["gcc -O2"], 610: ["clang -O2"], 818: ["gcc -O2"], 907: ["clang -O2"], 909: ["gcc -O2"],
              944: ["gcc -O2"], 955: ["gcc -O2"], 1003: ["gcc -O2"], 1080: ["gcc -O2"], 1098: ["gcc -O2"],
              976: ["clang -O2"], 1195: ["clang -O2"]}
START = """#ifdef LOG
#include <stdio.h>
static const char *chain[64];
static int depth;
#define ENTER(name) chain[depth++] = name
#define LEAVE(value) ({ __typeof__(value) r_ = (value); depth--; r_; })
#define MARK(n, ...) do { printf("%d", n); for (int i_ = depth; i_-- > 0;) printf(" %s", chain[i_]); \\
  printf("|" __VA_ARGS__); printf("\\n"); } while (0)
#else
#define ENTER(name)
#define LEAVE(value) (value)
#define MARK(n, ...) mark(n)
#endif
#define SHARE(x) __asm__ volatile("" : : "r"(&(x)) : "memory")
void mark(int n);
typedef struct { int a; short b; long long c; double d; } level;
volatile int seed_of_all = 5;
"""
SCALARS = {"int": "%d", "unsigned": "%u", "short": "%d", "unsigned char": "%d", "signed char": "%d", "long long": "%lld",
           "unsigned long long": "%llu", "double": "%.17g", "float": "%.9g"}


class Program:
    """A generated program; functions call those before them."""

    def __init__(self, seed):
        self.random = random.Random(seed)
        self.text, self.marks, self.names = [START], 0, 0
        self.functions = []
        for i in range(self.random.randrange(4, 8)):
            self.function(f"reading_{i}")
        self.text.append("int main(void) {\n  ENTER(\"main\");\n  int sum = seed_of_all;\n"
                         "  level first_ = {3, 4, 5, 6.5};\n  SHARE(first_);")
        for name, types in self.functions[-3:]:
            given = ", ".join("&first_" if type == "const level *" else "first_" if type == "level" else
                              f"({type})(sum + {self.random.randrange(9)})" for type in types)
            self.text.append(f"  sum += (int){name}({given}) & 1023;\n  {self.mark([('sum', '%d', 'sum')])}")
        self.text.append("  return LEAVE(sum & 0);\n}\n")

    def pick(self, *choices):
        return self.random.choice(choices)

    def mark(self, shown):
        self.marks += 1
        form = "".join(f" {name}={form}" for name, form, _ in shown)
        return f"MARK({self.marks}, \"{form}\"{''.join(', ' + value for _, _, value in shown)});"

    def function(self, name):
        types = [self.pick(*SCALARS, "level", "const level *", "int", "long long") for _ in range(self.random.randrange(1, 6))]
        self.scope = [[]]
        for i, type in enumerate(types):
            self.scope[-1].append((f"p{i}", type))
        inlining = self.pick("static ", "static ", "static inline __attribute__((always_inline)) ",
                             "static __attribute__((noinline)) ", "")
        self.result = self.pick("int", "long long", "unsigned", "double")
        given = ", ".join(f"{type} {name}" for name, type in self.scope[-1])
        self.text.append(f"{inlining}{self.result} {name}({given}) {{\n  ENTER(\"{name}\");")
        # A store that nobody reads is removed, and memory then has the old value: somebody might read these.
        self.text += [f"  SHARE({one});" for one, type in self.scope[-1] if type == "level"]
        self.loops = self.calls = 0
        self.block(3, "  ")
        self.text.append(f"  return LEAVE(({self.result})({self.value('int')}));\n}}\n")
        self.functions.append((name, types))

    def visible(self):
        seen = {}
        for scope in self.scope:
            seen.update(dict(scope))
        return seen

    def parts(self):
        """What can be read: its text and its type."""
        found = []
        for name, type in self.visible().items():
            if type in ("level", "const level *"):
                found += [(f"{name}{'.' if type == 'level' else '->'}{part}", of)
                          for part, of in (("a", "int"), ("b", "short"), ("c", "long long"), ("d", "double"))]
            elif type == "int[4]":
                found += [(f"{name}[{i}]", "int") for i in range(4)]
            elif type == "int *":
                found.append((f"*{name}", "int"))
            else:
                found.append((name, type))
        return found

    def number(self, depth=0):
        """An expression of an integer's type, as an unsigned number."""
        whole = [text for text, type in self.parts() if type not in ("double", "float")]
        kind = self.random.randrange(6 if depth < 2 else 2)
        if kind == 0 or not whole:
            return str(self.random.randrange(1, 60))
        if kind < 3:
            return f"(unsigned){self.random.choice(whole)}"
        if kind == 3:
            return f"({self.number(depth + 1)} >> {self.random.randrange(1, 5)})"
        return f"({self.number(depth + 1)} {self.pick('+', '-', '*', '^', '&')} {self.number(depth + 1)})"

    def value(self, type):
        if type not in ("double", "float"):
            return f"({type}){self.number()}"
        some = [text for text, of in self.parts() if of in ("double", "float")]
        first = self.random.choice(some) if some and self.random.random() < 0.7 else f"({self.number()} & 1023)"
        return f"({type})({first} * 0.5 + ({self.number()} & 255))"

    def given(self, types):
        levels = [name for name, type in self.visible().items() if type == "level"]
        at = [name for name, type in self.visible().items() if type == "const level *"]
        words = []
        for type in types:
            if type == "level":
                if not levels and not at:
                    return None
                words.append(self.random.choice(levels + [f"*{name}" for name in at]))
            elif type == "const level *":
                if not levels and not at:
                    return None
                words.append(self.random.choice([f"&{name}" for name in levels] + at))
            else:
                words.append(self.value(type))
        return ", ".join(words)

    def shown(self):
        parts = self.parts()
        self.random.shuffle(parts)
        return [(text, SCALARS[type], text) for text, type in parts[:10]]

    def block(self, depth, indent):
        self.scope.append([])
        for _ in range(self.random.randrange(3, 7)):
            self.statement(depth, indent)
        self.scope.pop()

    def statement(self, depth, indent):
        kind = self.random.randrange(14)
        out = lambda text: self.text.append(indent + text)
        names = self.visible()
        if kind < 4:
            type = self.pick(*SCALARS, "level", "int[4]", "int *", "int")
            here = dict(self.scope[-1] + (self.scope[0] if len(self.scope) == 2 else []))
            reuse = [name for name in names if name not in here]
            self.names += 1
            name = self.random.choice(reuse) if reuse and self.random.random() < 0.15 else f"v{self.names}"
            if type == "level":
                name = f"w{self.names}"
                out(f"level {name} = {{{self.value('int')}, {self.value('short')}, {self.value('long long')}, "
                    f"{self.value('double')}}};")
            elif type == "int[4]":
                name = f"v{self.names}"
                out(f"int {name}[4] = {{{', '.join(self.value('int') for _ in range(4))}}};")
            elif type == "int *":
                targets = [f"{one}[{self.number()} & 3]" for one, of in names.items() if of == "int[4]"]
                targets += [one for one, of in names.items() if of == "int"]
                if not targets:
                    return
                name = f"v{self.names}"
                out(f"int *{name} = &{self.random.choice(targets)};")
            else:
                fresh = self.value(type)
                if name in re.findall(r"\w+", fresh):
                    name = f"v{self.names}"
                out(f"{type} {name} = {fresh};")
            self.scope[-1].append((name, type))
            if type in ("level", "int[4]"):
                out(f"SHARE({name});")
        elif kind < 7:
            text, type = self.random.choice([one for one in self.parts() if "->" not in one[0]] or [(None, None)])
            if text and not text.startswith("i"):
                out(f"{text} {self.pick('=', '=', '+=')} {self.value(type)};")
        elif kind < 9 and depth > 0:
            out(f"if ({self.number()} & {self.pick(1, 3, 4)}) {{")
            self.block(depth - 1, indent + "  ")
            if self.random.random() < 0.4:
                out("} else {")
                self.block(depth - 1, indent + "  ")
            out("}")
        elif kind == 9 and depth > 0 and self.loops < 2:
            self.loops += 1
            self.names += 1
            name = f"i{self.names}"
            out(f"for (int {name} = 0; {name} < {self.pick(2, 3, '(int)(' + self.number() + ' & 3)')}; {name}++) {{")
            self.scope.append([(name, "int")])
            self.block(depth - 1, indent + "  ")
            self.scope.pop()
            out("}")
        elif kind < 12 and self.functions and self.calls < 3:
            name, types = self.random.choice(self.functions)
            given = self.given(types)
            if given is None:
                return
            self.calls += 1
            self.names += 1
            out(f"int v{self.names} = (int){name}({given}) & 4095;")
            self.scope[-1].append((f"v{self.names}", "int"))
        else:
            out(self.mark(self.shown()))


def run(words, text=None):
    return subprocess.run(words, input=text, capture_output=True, text=True, errors="replace", timeout=300, check=False)


def as_float(text):
    """What a float is after it was set to the number: texts of several lengths stand for the same float."""
    return struct.unpack("f", struct.pack("f", float(text)))[0]


def same(shown, logged):
    """One of the readings of what is shown is the logged number."""
    single = re.search(r"   float\b", shown) is not None
    for reading in shown.split("   ")[0].split(" · "):
        reading = reading.split(" ")[0]
        try:
            if single and as_float(reading) == as_float(logged):
                return True
            if float(reading) == float(logged) or int(reading, 0) == int(float(logged)):
                return True
        except ValueError:
            pass
    return {"true": 1, "false": 0}.get(shown.split(" ")[0]) == float(logged)


class Judge:
    def __init__(self, deeptrace):
        self.deeptrace, self.lost, self.frames = deeptrace, [], 0
        self.wrong = collections.defaultdict(list)  # what was shown, by build, seed and variable
        self.counts = collections.defaultdict(collections.Counter)
        self.reasons = collections.Counter()

    def judge(self, folder, seed, build, log):
        program = os.path.join(folder, "program")
        made = run([*BUILDS[build], *COMMON, os.path.join(folder, "a.c"), os.path.join(folder, "mark.c"), "-o", program])
        if made.returncode != 0:
            sys.exit(f"{build}, seed {seed}: {made.stderr}")
        words = ["halt at mark+0"]
        for _, shown in log:
            words += ["resume", "frames", "in frame 1", *(f"show {name}" for name, _ in shown)]
        said = run([self.deeptrace, "console", program, "--uncut", "--colour", "never"], "\n".join(words) + "\n").stdout
        answers = iter(re.split(r"^program\b[^\n]*?: ((?:halt at|in frame|show) [^\n]*|resume|frames)$", said, flags=re.M))
        next(answers)
        given = list(zip(answers, answers))
        if [word for word, _ in given] != words:
            self.lost.append(f"{build}, seed {seed}: the conversation broke off: {said[-300:]}")
            return
        at = iter(text.strip() for _, text in given[1:])
        for chain, shown in log:
            next(at)
            frames = next(at)
            names = re.findall(r"^ *\d+  0x[0-9a-f]+  (\w+)", frames, flags=re.M)[1:]
            line = (re.findall(r"^ *1  .*:(\d+)", frames, flags=re.M) or ["?"])[0]
            jumped = re.findall(r"by a jump from (\w+)", frames)
            self.frames += 1
            self.counts[build]["marks"] += 1
            here = [name for name in names if name.startswith("reading_") or name == "main"] == chain
            if not here and not jumped:
                self.counts[build]["merged"] += 1
                self.wrong[f"{build}, seed {seed}: frames {names}"].append(f"on line {line}: entered were {chain}")
            next(at)
            for name, logged in shown:
                text = next(at)
                if not here:
                    continue
                if text.startswith("wrong:") or " = unknown: " in text:
                    self.counts[build]["missing"] += 1
                    reason = text.split(": ", 2)[2] if text.startswith("wrong:") else text.split(" = unknown: ")[1]
                    self.reasons[re.sub(r"\d+|0x\w+", "N", reason.split(";")[0])] += 1
                elif same(text.split(" = ", 1)[1], logged):
                    self.counts[build]["right"] += 1
                else:
                    self.counts[build]["wrong"] += 1
                    self.wrong[f"{build}, seed {seed}: {chain[0]}, {name}"].append(
                        f"on line {line}: {text.splitlines()[0]}, logged {logged}")


def log_of(folder):
    """What the program says of itself: functions and values at each mark."""
    program = os.path.join(folder, "logging")
    made = run(["gcc", "-DLOG", *COMMON, os.path.join(folder, "a.c"), os.path.join(folder, "mark.c"), "-o", program])
    if made.returncode != 0:
        sys.exit(made.stderr)
    log = []
    with subprocess.Popen([program], stdout=subprocess.PIPE, text=True) as running:
        for line in itertools.islice(running.stdout, MARKS):
            chain, _, shown = line.partition("|")
            log.append((chain.split()[1:], [one.split("=") for one in shown.split()]))
        running.kill()  # some never end
    return log


def main():
    words = sys.argv[2:]
    first, count = (int(words[0]), int(words[1])) if len(words) > 1 else (6, 6)
    builds = words[2].split(",") if len(words) > 2 else list(BUILDS) if len(words) > 1 else SHORT
    plan = {seed: builds for seed in range(first, first + count)}
    if len(words) < 2:
        plan.update(ONCE_WRONG)
    judge = Judge(sys.argv[1])
    with tempfile.TemporaryDirectory(dir=os.environ.get("TMPDIR")) as folder:
        with open(os.path.join(folder, "mark.c"), "w", encoding="utf-8") as file:
            file.write("volatile int marked;\nvoid mark(int n) { marked = n; }\n")
        for seed, of_seed in plan.items():
            with open(os.path.join(folder, "a.c"), "w", encoding="utf-8") as file:
                file.write("\n".join(Program(seed).text))
            log = log_of(folder)
            for build in of_seed:
                judge.judge(folder, seed, build, log)
    print(f"{judge.frames} marks: the frames at each, and the variables of the calling one")
    failed = list(judge.lost)
    for build in builds:
        of = judge.counts[build]
        level = re.search(r"-O.", build)[0]
        most = MOST.get(level, 1) if len(words) > 1 else 0
        if 1000 * of["wrong"] > most * (of["right"] + of["wrong"]):
            failed.append(f"{build}: {of['wrong']} wrong values: more than {most} of a thousand")
        if 1000 * of["merged"] > MOST_FRAMES.get(level, 1) * of["marks"]:
            failed.append(f"{build}: {of['merged']} wrong frames: more than {MOST_FRAMES.get(level, 1)} of a thousand")
        print(f"  {build:28} {of['right']:6} right {of['wrong']:4} wrong {of['missing']:6} without a value "
              f"({100 * of['missing'] / max(1, of['right'] + of['wrong'] + of['missing']):.1f}%)"
              + (f", {of['merged']} wrong frames" if of["merged"] else ""))
    for reason, times in judge.reasons.most_common(12):
        print(f"  {times:6} {reason}")
    for which, shown in sorted(judge.wrong.items(), key=lambda one: -len(one[1]))[:60]:
        print(f"{which}: {len(shown)} times; {shown[0]}")
    print("\n".join(failed[:20]))
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
