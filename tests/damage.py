#!/usr/bin/env python3
"""Crashed programs whose core files, debug information or stacks are damaged.   usage: damage.py DEEPTRACE [COUNT]

Whatever comes: an answer, or one line of error with the status for it; never a crash, never longer than ten seconds,
never more than 2 GB. A core file of 4 GB is read like a small one, and a stack of noise ends with a reason."""
import collections
import json
import os
import random
import resource
import struct
import subprocess
import sys
import tempfile

SOURCE = r"""
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
typedef struct level { struct level *next; int height; char name[8]; double scale; } level;
volatile unsigned random_state = 1;
level *volatile highest;
__attribute__((noinline)) static int read_level(level *from, int times) {
  int heights[4] = {1, 2, 3, times};
  return times > 0 ? read_level(from->next, times - 1) + heights[times & 3] : from->height;
}
__attribute__((noinline)) static void noise(void) {
  unsigned char *from = __builtin_frame_address(0);
  for (int i = 0; i < 3000; ++i) from[i] = (unsigned char)((random_state = random_state * 1103515245 + 12345) >> 16);
  *(volatile int *)8 = 1;
}
int main(int argc, char **argv) {
  static char far_above[20000];
  if (argc > 2) {
    char *large = mmap(0, 4400ULL << 20, 3, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    level *last = (level *)(large + (4400ULL << 20) - 4096);
    last->height = 77;
    highest = last;
    last->next = (level *)4;
    read_level(last, 2);
  }
  if (argc > 1) { random_state = atoi(argv[1]); char room[8192]; memset(room, 1, sizeof room); noise(); return room[argc]; }
  level *first = calloc(1, sizeof *first);
  first->next = (level *)far_above;
  return read_level(first, 3);
}
"""
KINDS = (".debug_info", ".debug_abbrev", ".debug_line", ".debug_loclists", ".debug_rnglists", ".debug_loc", ".debug_ranges",
         ".debug_str", ".debug_frame", ".eh_frame", ".eh_frame_hdr", ".symtab", ".strtab", ".dynsym", ".dynamic")
LIMIT = 2 << 30  # bytes of memory


def unlimited():
    resource.setrlimit(resource.RLIMIT_CORE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))


def bounded():
    resource.setrlimit(resource.RLIMIT_DATA, (LIMIT, LIMIT))


def core_of(program, words, folder):
    before = set(os.listdir(folder))
    subprocess.run([program, *words], cwd=folder, capture_output=True, preexec_fn=unlimited, check=False)
    made = [name for name in os.listdir(folder) if name not in before and "core" in name]
    if not made:
        return None
    kept = os.path.join(folder, f"kept-{len(before)}")
    os.rename(os.path.join(folder, made[0]), kept)
    return kept


def sections(data):
    """Name, offset and size of each (ELF-64)."""
    start, = struct.unpack_from("<Q", data, 0x28)
    size, count, names = struct.unpack_from("<HHH", data, 0x3a)
    headers = [struct.unpack_from("<IIQQQQ", data, start + i * size) for i in range(count)]
    text = headers[names][4]
    return {data[text + one[0]:data.index(b"\0", text + one[0])].decode(): (one[4], one[5]) for one in headers}


def damaged(data, chance, places):
    """A copy with bytes changed in one of the places, in one of several ways."""
    copy = bytearray(data)
    offset, size = chance.choice(places)
    way = chance.randrange(4)
    if way == 0:
        for _ in range(chance.randrange(1, 20)):
            copy[offset + chance.randrange(size)] = chance.choice((0, 1, 0x7f, 0x80, 0xff, chance.randrange(256)))
    elif way == 1:
        at, length = chance.randrange(size), chance.randrange(1, 200)
        copy[offset + at:offset + min(size, at + length)] = bytes(min(size, at + length) - at)
    elif way == 2:
        at, to = chance.randrange(size), chance.randrange(size)
        length = min(size - max(at, to), chance.randrange(1, 64))
        copy[offset + to:offset + to + length] = data[offset + at:offset + at + length]
    else:
        at = chance.randrange(max(1, size - 8))
        width = chance.choice((2, 4, 8))
        value = chance.choice((0, 1, 2**31, 2**32 - 1, 2**63, 2**64 - 1, chance.getrandbits(64)))
        copy[offset + at:offset + at + width] = (value & (2**(8 * width) - 1)).to_bytes(width, "little")
    return copy


class Runs:
    def __init__(self, tool):
        self.tool, self.wrong, self.statuses = tool, [], collections.Counter()

    def see(self, name, words, text=None):
        try:
            done = subprocess.run([self.tool, *words], input=text, capture_output=True, text=True, errors="replace",
                                  timeout=60, preexec_fn=bounded, check=False)
        except subprocess.TimeoutExpired:
            self.wrong.append(f"{name}: takes too long: {' '.join(words)}")
            return None
        self.statuses[done.returncode] += 1
        lines = 0 if words[0] == "console" and done.returncode == 2 else 1  # a word that failed has said so itself
        if done.returncode not in (0, 1, 2, 3) or (done.returncode > 1 and done.stderr.count("\n") != lines):
            self.wrong.append(f"{name}: status {done.returncode}: {done.stderr.strip()[:300]}")
        return done

    def look(self, name, core, program):
        self.see(name, ["fault", "--core", core, program])
        self.see(name, ["console", "--core", core, program], "frames\nvars\nstack\nin frame 1\nvars\nwhy\ncode\n")


def check_large(runs, program, folder):
    core = core_of(program, ["1", "large"], folder)
    if core is None:
        return
    size = os.path.getsize(core)
    done = runs.see("4 GB", ["fault", "--format", "json", "--core", core, program])
    fault = json.loads(done.stdout)["fault"] if done and done.returncode == 0 else None
    own = fault and fault["own"]
    if size < 4 << 30 or not own or own["function"].split("+")[0] != "read_level" or fault["operand"]["address"] is None:
        runs.wrong.append(f"4 GB: {size} bytes: {fault}")
    shown = runs.see("4 GB", ["console", "--core", core, program], "show highest->height\n")
    if shown is None or "77" not in shown.stdout:
        runs.wrong.append(f"4 GB: the far end cannot be read: {shown and shown.stdout[-300:]}")
    os.remove(core)


def check_noise(runs, program, count):
    """Frames invented out of noise would have functions of the program; one or two words may look like addresses."""
    for seed in range(1, count + 1):
        done = runs.see(f"noise {seed}", ["fault", "--format", "json", program, str(seed)])
        if done is None or done.returncode != 0:
            continue
        fault = json.loads(done.stdout)["fault"]
        names = [frame["function"] for frame in fault["frames"]]
        if not names or not names[0].startswith("noise") or len(names) > 2:
            runs.wrong.append(f"noise {seed}: frames {names}")


def main():
    runs, count = Runs(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 40
    with tempfile.TemporaryDirectory(dir=os.environ.get("TMPDIR")) as folder:
        with open(os.path.join(folder, "a.c"), "w", encoding="utf-8") as file:
            file.write(SOURCE)
        program = os.path.join(folder, "program")
        subprocess.run(["gcc", "-g", "-O1", "-w", "-fno-optimize-sibling-calls", "-fno-stack-protector",
                        os.path.join(folder, "a.c"), "-o", program], check=True)
        check_noise(runs, program, count // 4 + 1)
        check_large(runs, program, folder)
        core, changed = core_of(program, [], folder), os.path.join(folder, "changed")
        with open(program, "rb") as file:
            whole = file.read()
        places = [place for name, place in sections(whole).items() if name in KINDS and place[1] > 0]
        for seed in range(count):
            chance = random.Random(seed)
            with open(changed, "wb") as file:
                file.write(damaged(whole, chance, places))
            os.chmod(changed, 0o755)
            if core:
                runs.look(f"program {seed}", core, changed)
            runs.see(f"program {seed}", ["listing", changed, "read_level"])
            if not core:
                continue
            with open(core, "rb") as file:
                dead = file.read()
            with open(changed, "wb") as file:
                cut = damaged(dead, chance, [(0, 4096), (0, min(len(dead), 65536)), (0, len(dead))])
                file.write(cut[:chance.randrange(len(cut))] if seed % 4 == 0 else cut)
            runs.look(f"core {seed}", changed, program)
    print(f"{sum(runs.statuses.values())} runs on damaged input, statuses {dict(sorted(runs.statuses.items()))}: "
          f"{len(runs.wrong)} wrong" + ("" if core else "; the kernel writes no core files here"))
    print("\n".join(runs.wrong[:20]))
    return 1 if runs.wrong else 0


if __name__ == "__main__":
    sys.exit(main())
