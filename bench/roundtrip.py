#!/usr/bin/env python3
"""Assembles the `--exact` form of whole files again and compares the bytes: the assembler as the judge of the decoder.

usage: roundtrip.py DEEPTRACE [FILE…]

Every executable section of each file, in both syntaxes, in pieces of at most 4 MB. Prints what had to be written how,
the share of what is neither text nor padding, and the bytes marked as data beside those that no function symbol covers.
Without files: the libraries and programs that the project is measured
on, as far as this machine has them."""
import os
import re
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor

LIBRARIES = "/usr/lib/x86_64-linux-gnu/"
USUAL = [LIBRARIES + name for name in ("libc.so.6", "libm.so.6", "libstdc++.so.6", "libcrypto.so.3", "libLLVM-14.so.1",
                                       "libLLVM-15.so.1")] + ["/bin/bash", "/usr/bin/git", "/lib32/libc.so.6"]
PIECE = 4 << 20
KINDS = ("padding", "late symbol", "prefixes apart", "as bytes")


def sections(data):
    """Executable sections with contents: name, address, bytes. Read here once more, by code that is not the product's."""
    wide = data[4] == 2
    word = 8 if wide else 4
    at = lambda offset, size: int.from_bytes(data[offset:offset + size], "little")
    table, entry, count, names = ((at(40, 8), at(58, 2), at(60, 2), at(62, 2)) if wide else
                                  (at(32, 4), at(46, 2), at(48, 2), at(50, 2)))
    heads = []
    for i in range(count):
        head = table + i * entry
        fields = [at(head + 8 + word * k, word) for k in range(4)]  # flags, address, offset, size
        heads.append((at(head, 4), at(head + 4, 4), *fields))
    strings = heads[names][4]
    for name, kind, flags, address, offset, size in heads:
        if flags & 4 and kind == 1 and size:
            text = data[strings + name:data.index(b"\0", strings + name)].decode()
            yield text, address, data[offset:offset + size]


def bytes_without_function(data):
    """Bytes of the executable sections that no function symbol covers; None where the file has no symbols."""
    wide = data[4] == 2
    word = 8 if wide else 4
    at = lambda offset, size: int.from_bytes(data[offset:offset + size], "little")
    table, entry, count = (at(40, 8), at(58, 2), at(60, 2)) if wide else (at(32, 4), at(46, 2), at(48, 2))
    ranges = set()
    for i in range(count):
        head = table + i * entry
        if at(head + 4, 4) not in (2, 11):
            continue
        offset, size = at(head + 8 + 2 * word, word), at(head + 8 + 3 * word, word)
        step = 24 if wide else 16
        for symbol in range(offset, offset + size, step):
            info = data[symbol + (4 if wide else 12)]
            value, length = (at(symbol + 8, 8), at(symbol + 16, 8)) if wide else (at(symbol + 4, 4), at(symbol + 8, 4))
            if info & 15 in (2, 10) and length:
                ranges.add((value, value + length))
    if not ranges:
        return None
    covered, end = 0, 0
    for start, to in sorted(ranges):
        covered += max(0, to - max(start, end))
        end = max(end, to)
    return sum(len(contents) for _, _, contents in sections(data)) - covered


def text_of_object(path):
    data = open(path, "rb").read()
    return next((contents for name, _, contents in sections(data) if name == ".text"), b"")


def piece(deeptrace, path, wide, address, expected, syntax):
    """One range there and back: whether it is equal, and its counts."""
    with tempfile.TemporaryDirectory() as folder:
        source, out = os.path.join(folder, "a.s"), os.path.join(folder, "a.o")
        with open(source, "wb") as to:
            subprocess.run([deeptrace, "listing", path, f"{address:#x}..{address + len(expected):#x}", "--format", "assembler",
                            "--exact", "--syntax", syntax], stdout=to, check=True)
        assembled = subprocess.run(["as", "--64" if wide else "--32", "-O0", "-mindex-reg", "-mintel64", "-o", out, source],
                                   capture_output=True, text=True)
        last = subprocess.run(["tail", "-n", "1", source], capture_output=True, text=True).stdout
        counts = [int(n) for n in re.findall(r"\d+", last)]
        equal = assembled.returncode == 0 and text_of_object(out) == expected
        return equal, counts, assembled.stderr[:300]


def main():
    deeptrace, files = sys.argv[1], sys.argv[2:] or [path for path in USUAL if os.path.exists(path)]
    total, bad = [0] * 7, 0
    with ThreadPoolExecutor(2) as pool:
        for path in files:
            data = open(path, "rb").read()
            for syntax in ("intel", "att"):
                jobs = []
                for _, address, contents in sections(data):
                    for at in range(0, len(contents), PIECE):
                        jobs.append(pool.submit(piece, deeptrace, path, data[4] == 2, address + at, contents[at:at + PIECE],
                                                syntax))
                results = [job.result() for job in jobs]
                counts = [sum(column) for column in zip(*(counts for _, counts, _ in results))]
                wrong = [message for equal, _, message in results if not equal]
                bad += len(wrong)
                total = [a + b for a, b in zip(total, counts)]
                print(f"{path} {syntax}: {len(results)} pieces, {'all equal' if not wrong else f'{len(wrong)} DIFFER'}; "
                      f"{counts[0]} instructions, " + ", ".join(f"{n} {k}" for n, k in zip(counts[1:], KINDS)) +
                      f", {counts[5]} bytes undecoded, {counts[6]} bytes of data (no function symbol covers "
                      f"{bytes_without_function(data)})", flush=True)
                for message in wrong[:3]:
                    print("  ", message)
    share = sum(total[2:6]) / max(total[0], 1)
    print(f"all: {total[0]} instructions, {100 * share:.4f}% neither text nor padding, outside data")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
