#!/usr/bin/env python3
"""How long core files take: the call stacks of 200 threads, and opening one of 1 GB.   usage: core_files.py DEEPTRACE

Beside each stands what reading the same bytes takes (`cat`). Aims: 1 s and 0.2 s. Medians of seven."""
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time

SOURCE = r"""
#include <pthread.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <unistd.h>
static pthread_barrier_t ready;
__attribute__((noinline)) static int deep(int depth) {
  volatile int level = depth;
  if (depth > 0) return deep(depth - 1) + level;
  pthread_barrier_wait(&ready);
  pause();
  return level;
}
static void *waiter(void *depth) { deep((int)(long)depth); return 0; }
int main(int argc, char **argv) {
  int threads = atoi(argv[1]), gigabytes = atoi(argv[2]);
  pthread_t thread;
  pthread_barrier_init(&ready, 0, threads + 1);
  for (long i = 0; i < threads; ++i) pthread_create(&thread, 0, waiter, (void *)(i % 20));
  if (gigabytes > 0) {
    char *large = mmap(0, (size_t)gigabytes << 30, 3, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    for (size_t at = 0; at < (size_t)gigabytes << 30; at += 1 << 20) large[at] = 1;
  }
  pthread_barrier_wait(&ready);
  usleep(100000);
  abort();
}
"""


def core_of(folder, name, words):
    inside = os.path.join(folder, name)
    os.mkdir(inside)
    subprocess.run([os.path.join(folder, "leaving"), *words], cwd=inside, check=False)
    found = [file for file in os.listdir(inside) if "core" in file]
    if not found:
        sys.exit("the kernel writes no core files here (see /proc/sys/kernel/core_pattern)")
    return os.path.join(inside, found[0])


def median(command, text=""):
    times = []
    for _ in range(7):
        start = time.monotonic()
        done = subprocess.run(command, input=text, capture_output=True, text=True, check=False)
        times.append(time.monotonic() - start)
        if done.returncode != 0:
            sys.exit(f"{command}: {done.stdout}{done.stderr}")
    return statistics.median(times), done.stdout


def main():
    deeptrace = os.path.abspath(sys.argv[1])
    resource.setrlimit(resource.RLIMIT_CORE, (resource.getrlimit(resource.RLIMIT_CORE)[1],) * 2)
    with tempfile.TemporaryDirectory() as folder:
        with open(os.path.join(folder, "leaving.c"), "w", encoding="utf-8") as file:
            file.write(SOURCE)
        subprocess.run(["gcc", "-g", "-O1", "-pthread", file.name, "-o", os.path.join(folder, "leaving")], check=True)
        many = core_of(folder, "threads", ["199", "0"])
        words = "".join(f"in thread {i}\nframes\n" for i in range(1, 201))
        stacks, out = median([deeptrace, "console", "--core", many, "--uncut"], words)
        frames = sum(1 for line in out.splitlines() if " deep" in line and line[:3].strip().isdigit())
        plain, _ = median(["sh", "-c", f"cat {many} > /dev/null"])
        print(f"200 threads, {frames} frames of deep: {stacks:.3f} s (aim 1 s); cat of the file: {plain:.3f} s")
        large = core_of(folder, "large", ["0", "1"])
        opening, _ = median([deeptrace, "console", "--core", large], "quit\n")
        survey, _ = median([deeptrace, "survey", large])
        plain, _ = median(["sh", "-c", f"cat {large} > /dev/null"])
        print(f"{os.path.getsize(large)} bytes: opened in {opening:.3f} s (aim 0.2 s), survey {survey:.3f} s; "
              f"cat of the file: {plain:.3f} s")


main()
