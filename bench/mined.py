#!/usr/bin/env python3
"""From the assembler's side: every mnemonic that GNU as knows, with operands of all kinds, is assembled; what it accepts
must be decoded, one instruction of the same length each, and its `--exact` form must give the same bytes again.

usage: mined.py DEEPTRACE [EVERY]     (EVERY: only each so-manieth mnemonic, for a quick run)

The words that may be mnemonics are read from the assembler's own file; which ones are, and with which operands, it says
itself. Both modes. Prints the counts and what differs."""
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from roundtrip import text_of_object  # noqa: E402

OPTIONS = ["-O0", "-mindex-reg", "-mintel64"]
SLOT = 32
MEMORY = ["byte ptr [{b}]", "word ptr [{b}]", "dword ptr [{b}]", "qword ptr [{b}]", "fword ptr [{b}]", "tbyte ptr [{b}]",
          "xmmword ptr [{b}]", "ymmword ptr [{b}]", "zmmword ptr [{b}]", "[{b}]"]
REGISTERS = ["al", "cl", "dx", "ax", "ecx", "eax", "xmm1", "ymm2", "zmm3", "mm1", "st(1)", "k1", "es", "cr0", "dr1", "bnd0"]
WIDE = ["r9", "rax", "xmm20", "tmm1"]
OTHER = ["5", ".+5"]
GATHERED = ["dword ptr [{b}+xmm4*2]", "qword ptr [{b}+xmm4]", "dword ptr [{b}+ymm4*4]", "qword ptr [{b}+ymm4]",
            "dword ptr [{b}+zmm4]", "qword ptr [{b}+zmm4*8]"]


def combinations(wide, most):
    """Operand lists: all of up to two operands, and those of three and four that vector instructions have."""
    memory = [m.format(b="rbx" if wide else "ebx") for m in MEMORY]
    gathered = [m.format(b="rbx" if wide else "ebx") for m in GATHERED]
    single = REGISTERS + (WIDE if wide else []) + memory + OTHER
    yield ""
    for a in single:
        yield a
    for a in single:
        for b in single:
            yield f"{a}, {b}"
    if most < 3:
        return
    classes = [["ecx", "edx", "esi"], ["xmm1", "xmm2", "xmm5"], ["ymm1", "ymm2", "ymm5"], ["zmm1", "zmm2", "zmm5"],
               ["k1", "k2", "k3"]] + ([["r9", "r10", "r11"], ["tmm1", "tmm2", "tmm3"], ["xmm17", "xmm18", "xmm19"]] if wide else [])
    for a, b, c in classes:
        for last in [c, "5", "cl", "eax", "xmm6", "ymm6"] + memory + (["rax"] if wide else []):
            for first in [a, "k1", "k1{k2}", a + "{k2}", a + "{k2}{z}"]:
                yield f"{first}, {b}, {last}"
                yield f"{first}, {b}, {last}, 5"
                if last in memory and "ptr" in last:
                    for count in (2, 4, 8, 16, 32):
                        yield f"{first}, {b}, {last}{{1to{count}}}"
            yield f"{last}, {a}, {b}"
            yield f"{a}, {last}, 5"
            yield f"{a}, {b}, {last}, {c}"
            yield f"{last}, {a}, 5"
            yield f"{a}, {b}, {c}, {last}, 2"
        for rounding in ("{rn-sae}", "{sae}"):
            yield f"{a}, {b}, {c}, {rounding}"
            yield f"{a}, {b}, {rounding}"
    for vector in ("xmm1", "ymm1", "zmm1"):
        for place in gathered:
            yield f"{vector}, {place}, {vector[:-1]}3"
            yield f"{vector}{{k2}}, {place}"
            yield f"{place}{{k2}}, {vector}"


def accepted(lines, mode, folder):
    """The lines that the assembler takes: it names the others, line by line."""
    source = os.path.join(folder, "try.s")
    with open(source, "w", encoding="ascii") as out:
        out.write(".intel_syntax noprefix\n" + "\n".join(lines) + "\n")
    result = subprocess.run(["as", mode, *OPTIONS, "-o", "/dev/null", source], capture_output=True, text=True, errors="replace")
    bad = {int(m[1]) for m in re.finditer(r"^[^\n:]*:(\d+): (?:Error|Warning)", result.stderr, re.M)}
    return [line for i, line in enumerate(lines, 2) if i not in bad]


def candidates():
    path = os.path.realpath(shutil.which("as"))
    words = set(re.findall(rb"(?<=\0)[a-z][a-z0-9]{1,19}(?=\0)", open(path, "rb").read()))
    return sorted(word.decode() for word in words)


def check(deeptrace, lines, mode, folder):
    """What the product makes of the lines' bytes; a list of complaints."""
    source, obj, again = (os.path.join(folder, name) for name in ("a.s", "a.o", "b.s"))
    with open(source, "w", encoding="ascii") as out:
        out.write(".intel_syntax noprefix\n.text\n" + "".join(f"{line}\n.balign {SLOT}, 0xcc\n" for line in lines))
    subprocess.run(["as", mode, *OPTIONS, "-o", obj, source], check=True, capture_output=True)
    # Relocations would say what targets are; here only the bytes count, in a file without symbols.
    expected = text_of_object(obj)
    raw = os.path.join(folder, "raw.s")
    with open(raw, "w", encoding="ascii") as out:
        out.write(".globl _start\n_start:\n" + "".join(f".byte {','.join(map(str, expected[i:i + SLOT]))}\n"
                                                     for i in range(0, len(expected), SLOT)))
    subprocess.run(["as", mode, "-o", obj, raw], check=True)
    listing = subprocess.run([deeptrace, "listing", "--all", "--data-as-code", "--format", "json", obj], capture_output=True, check=True)
    rows = {int(row["address"], 16): row for function in json.loads(listing.stdout)["functions"]
            for row in function["instructions"]}
    complaints = []
    for i, line in enumerate(lines):
        slot = expected[i * SLOT:(i + 1) * SLOT]
        place = i * SLOT
        if line.split()[0] in WITH_WAIT and slot[0] == 0x9B:
            slot, place = slot[1:] + bytes([0xCC]), place + 1
        row = rows.get(place)
        if row is None or row.get("decoded") is False:
            complaints.append(f"{line}: {slot.rstrip(bytes([0xCC])).hex()} is not decoded")
        elif slot[len(row["bytes"]) // 2:] != bytes([0xCC]) * (SLOT - len(row["bytes"]) // 2):
            complaints.append(f"{line}: {slot.hex()} is read as {row['text']}")
    fixed = subprocess.run([deeptrace, "listing", obj, ".text", "--data-as-code", "--format", "assembler", "--exact"],
                           capture_output=True, check=True).stdout
    open(again, "wb").write(fixed)
    result = subprocess.run(["as", mode, *OPTIONS, "-o", obj, again], capture_output=True, text=True)
    if result.returncode != 0 or text_of_object(obj) != expected:
        got = text_of_object(obj) if result.returncode == 0 else b""
        at = next((i for i in range(0, len(expected), SLOT) if got[i:i + SLOT] != expected[i:i + SLOT]), 0)
        complaints.append(f"{lines[at // SLOT]}: assembled again it differs {result.stderr[:200]}")
    return complaints


def main():
    deeptrace, every = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 1
    failures = []
    with tempfile.TemporaryDirectory() as folder:
        for mode in ("--64", "--32"):
            wide = mode == "--64"
            words = candidates()[::every]
            few = list(combinations(wide, 2))
            lines = [f"{word} {operands}".rstrip() for word in words for operands in few[:1 + 30]]
            alive = {line.split()[0] for line in accepted(lines, mode, folder)}
            rest = [word for word in words if word not in alive]
            many = list(combinations(wide, 4))
            probes = [c for c in many if c.count(",") >= 1][::7] + many[-60:]
            alive |= {line.split()[0] for line in accepted([f"{w} {o}" for w in rest for o in probes], mode, folder)}
            mnemonics = [word for word in words if word in alive]
            good = []
            for start in range(0, len(mnemonics), 100):
                part = [f"{w} {o}".rstrip() for w in mnemonics[start:start + 100] for o in many]
                good += accepted(part, mode, folder)
            # Words that are prefixes by themselves go with what follows.
            good = [line for line in good if " " in line or line not in PREFIXES]
            # Processors have these in 64-bit mode only (Intel SDM volume 2, RDFSBASE, WRFSBASE); the assembler does not mind.
            good = [line for line in good if wide or line.split()[0][2:] not in ("fsbase", "gsbase")]
            for start in range(0, len(good), 20000):
                failures += check(deeptrace, good[start:start + 20000], mode, folder)
            print(f"{mode}: {len(words)} words, {len(mnemonics)} mnemonics, {len(good)} instructions accepted", flush=True)
    for failure in failures[:40]:
        print("  ", failure)
    print(f"{len(failures)} differ")
    return 1 if failures else 0


PREFIXES = {"rep", "repe", "repz", "repne", "repnz", "lock", "data16", "data32", "addr16", "addr32", "cs", "ds", "es", "fs",
            "gs", "ss", "bnd", "notrack", "rex", "xacquire", "xrelease", "wait", "fwait"}

# The assembler writes a wait before these: two instructions.
WITH_WAIT = {"fclex", "fdisi", "feni", "finit", "fsave", "fsetpm", "fstcw", "fstenv", "fstsw"}

if __name__ == "__main__":
    sys.exit(main())
