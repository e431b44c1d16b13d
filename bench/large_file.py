#!/usr/bin/env python3
"""First and second answers about a program with more than 500 MB of debug information.

usage: large_file.py DEEPTRACE [FOLDER]

Builds the program when FOLDER (default: build/large) does not have it yet: one large translation of many template
instances, whose names are local, linked many times over. Each question is asked with an empty and with a filled cache
folder; printed are seconds, the anonymous memory at its highest, and whether the answers are the same. With root's rights
the file is also dropped from the system's cache first ("cold").
"""
import os
import subprocess
import sys
import tempfile
import time

TYPES, COPIES = 60, 80

SOURCE_HEAD = """#include <algorithm>
#include <deque>
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <unordered_map>
#include <vector>
namespace {
"""

SOURCE_TYPE = """struct Level{i} {{
  int metres; long minute;
  bool operator<(const Level{i}& o) const {{ return metres < o.metres; }}
  bool operator==(const Level{i}& o) const {{ return metres == o.metres; }}
}};
struct Hash{i} {{ std::size_t operator()(const Level{i}& l) const {{ return l.metres; }} }};
__attribute__((used)) long sum{i}(int n) {{
  std::map<Level{i}, std::string> m; std::vector<Level{i}> v; std::set<Level{i}> s;
  std::unordered_map<Level{i}, std::vector<Level{i}>, Hash{i}> u; std::list<Level{i}> l; std::deque<Level{i}> d;
  for (int k = 0; k < n; ++k) {{
    Level{i} x{{k, k * 2}};
    m[x] = "level"; v.push_back(x); s.insert(x); u[x].push_back(x); l.push_back(x); d.push_back(x);
  }}
  std::sort(v.begin(), v.end());
  std::function<long(Level{i})> f = [n](Level{i} y) {{ return y.minute + n; }};
  auto p = std::make_shared<Level{i}>();
  long total = p->metres;
  for (auto& y : v) total += f(y);
  return total + (long)m.size() + (long)s.size() + (long)u.size() + (long)l.size() + (long)d.size();
}}
"""


def build(folder):
    os.makedirs(folder, exist_ok=True)
    program = os.path.join(folder, "large")
    if os.path.exists(program):
        return program
    source = os.path.join(folder, "unit.cpp")
    with open(source, "w", encoding="utf-8") as out:
        out.write(SOURCE_HEAD + "".join(SOURCE_TYPE.format(i=i) for i in range(TYPES)) + "}\n")
    main = os.path.join(folder, "main.cpp")
    with open(main, "w", encoding="utf-8") as out:
        out.write("int main() { return 0; }\n")
    subprocess.run(["g++", "-g3", "-O0", "-c", "-o", os.path.join(folder, "unit0.o"), source], check=True)
    copies = [os.path.join(folder, f"unit{i}.o") for i in range(COPIES)]
    for copy in copies[1:]:
        if not os.path.exists(copy):
            os.link(copies[0], copy)
    subprocess.run(["g++", "-g3", "-o", program, main, *copies], check=True)
    for copy in copies:
        os.remove(copy)
    return program


def ask(words, cache):
    """Seconds until the answer is out, the highest RssAnon in MB, and the answer."""
    with tempfile.TemporaryFile() as out:
        start = time.time()
        process = subprocess.Popen(words, stdout=subprocess.PIPE, env={**os.environ, "XDG_CACHE_HOME": cache})
        answer, first, peak = b"", None, 0
        os.set_blocking(process.stdout.fileno(), False)
        while True:
            try:
                with open(f"/proc/{process.pid}/status", encoding="ascii") as status:
                    for line in status:
                        if line.startswith("RssAnon"):
                            peak = max(peak, int(line.split()[1]))
            except (FileNotFoundError, ProcessLookupError):
                pass
            piece = process.stdout.read(1 << 20)
            if piece is None:
                time.sleep(0.001)
                continue
            if piece == b"":
                break
            answer += piece
            first = time.time() - start
        process.wait()
        del out
        return first or time.time() - start, time.time() - start, peak / 1024, answer


def main():
    deeptrace = os.path.abspath(sys.argv[1])
    program = build(sys.argv[2] if len(sys.argv) > 2 else "build/large")
    debug = subprocess.run([deeptrace, "survey", "--format", "json", program], capture_output=True, check=True, text=True).stdout
    print(f"{os.path.getsize(program):,} bytes; debug information {debug.split(chr(34) + 'debug' + chr(34) + ':')[-1].split(',')[0]} bytes")
    inside = subprocess.run([deeptrace, "lines", "--format", "csv", "--at", "(anonymous namespace)::sum7", program],
                            capture_output=True, text=True, env={**os.environ, "XDG_CACHE_HOME": "/nonexistent"}).stdout.split("\n")[1].split(",")[0]
    for words in (["listing", program, "main"], ["lines", "--at", "main", program], ["lines", "--at", inside, program]):
        with tempfile.TemporaryDirectory() as cache:
            if os.geteuid() == 0:
                subprocess.run(["sync"], check=True)
                try:
                    with open("/proc/sys/vm/drop_caches", "w", encoding="ascii") as drop:
                        drop.write("3")
                    answer, ended, peak, _ = ask([deeptrace, *words], cache)
                    print(f"{' '.join(words[:2] if words[0] == 'lines' else words[:1])} {words[-1] if words[0] == 'listing' else words[2]}: "
                          f"cold {answer:.3f} s, RssAnon {peak:.0f} MB")
                except OSError:
                    pass
        with tempfile.TemporaryDirectory() as cache:
            first = ask([deeptrace, *words], cache)
            second = ask([deeptrace, *words], cache)
            print(f"  warm: first {first[0]:.3f} s (ended {first[1]:.3f} s), RssAnon {first[2]:.0f} MB; second {second[0]:.3f} s, "
                  f"RssAnon {second[2]:.0f} MB; {'the same answer' if first[3] == second[3] else 'ANSWERS DIFFER'}")


if __name__ == "__main__":
    main()
