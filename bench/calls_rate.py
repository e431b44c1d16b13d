#!/usr/bin/env python3
"""How fast `syscalls` follows a program, against a bare loop that stops at entry and exit of every call and reads the
registers there.   usage: calls_rate.py DEEPTRACE [CALLS]

Both sides run alternating, seven times each, on one processor and on two; printed are medians, calls a second, and the
ratio. `syscalls` decodes every call and writes it to a file: of a loop that writes the same text each time, and of one
that writes another one each time. Then the same program with a hundred times the calls, of
which none is chosen: against a tracer that does no more than give it a filter of the same form. A last pair has ten times
the calls, for the memory that the tracer takes (kilobytes at most, as the kernel counts them)."""
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time

TARGET = """#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>
int main(int count, char **words) {
  int file = open("/dev/null", O_WRONLY);
  char text[] = "level 17";
  for (long i = atol(words[1]); i > 0; i--) {
    if (count > 2) text[7] = '0' + i % 10;
    write(file, text, 8);
  }
  return 0;
}
"""
BARE = """#include <stdio.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>
int main(int count, char **words) {
  pid_t child = fork();
  if (child == 0) {
    ptrace(PTRACE_TRACEME, 0, 0, 0);
    execv(words[1], words + 1);
    _exit(1);
  }
  int status;
  struct user_regs_struct registers;
  unsigned long sum = 0;
  waitpid(child, &status, 0);
  ptrace(PTRACE_SETOPTIONS, child, 0, PTRACE_O_TRACESYSGOOD);
  while (ptrace(PTRACE_SYSCALL, child, 0, 0) == 0 && waitpid(child, &status, 0) > 0 && !WIFEXITED(status)) {
    ptrace(PTRACE_GETREGS, child, 0, &registers);
    sum += registers.rax;
  }
  return sum == 1;
}
"""
FILTER = """#include <linux/audit.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <stddef.h>
#include <sys/prctl.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>
int main(int count, char **words) {
  struct sock_filter code[] = {
      BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(struct seccomp_data, arch)),
      BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, AUDIT_ARCH_X86_64, 0, 3),
      BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(struct seccomp_data, nr)),
      BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_sync, 0, 1),
      BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_TRACE),
      BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW),
  };
  struct sock_fprog program = {sizeof code / sizeof *code, code};
  pid_t child = fork();
  if (child == 0) {
    ptrace(PTRACE_TRACEME, 0, 0, 0);
    prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
    if (syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, 0, &program) != 0) _exit(2);
    execv(words[1], words + 1);
    _exit(1);
  }
  int status;
  waitpid(child, &status, 0);
  ptrace(PTRACE_SETOPTIONS, child, 0, PTRACE_O_TRACESECCOMP);
  while (ptrace(PTRACE_CONT, child, 0, 0) == 0 && waitpid(child, &status, 0) > 0 && !WIFEXITED(status));
  return WEXITSTATUS(status);
}
"""


def main():
    deeptrace = os.path.abspath(sys.argv[1])
    calls = int(sys.argv[2]) if len(sys.argv) > 2 else 100000
    with tempfile.TemporaryDirectory() as folder:
        for name, text in (("target", TARGET), ("bare", BARE), ("filter", FILTER)):
            with open(os.path.join(folder, name + ".c"), "w", encoding="utf-8") as file:
                file.write(text)
            subprocess.run(["gcc", "-O2", "-g", "-w", "-o", os.path.join(folder, name), os.path.join(folder, name + ".c")], check=True)
        target, bare, filtered = (os.path.join(folder, name) for name in ("target", "bare", "filter"))

        def seconds(words, processors):
            start = time.perf_counter()
            with open(os.path.join(folder, "out"), "w", encoding="utf-8") as out:
                subprocess.run(words, stdout=out, stderr=subprocess.DEVNULL, check=False,
                               preexec_fn=lambda: os.sched_setaffinity(0, processors))
            return time.perf_counter() - start

        available = sorted(os.sched_getaffinity(0))
        for processors in ([available[0]], available[:2]):
            for words, which in (([], "the same text"), (["other"], "other texts  ")):
                ours, theirs = [], []
                for _ in range(7):
                    ours.append(seconds([deeptrace, "syscalls", "--format", "csv", target, str(calls), *words], processors))
                    theirs.append(seconds([bare, target, str(calls), *words], processors))
                a, b = statistics.median(ours), statistics.median(theirs)
                print(f"{len(processors)} processor{'s' if len(processors) > 1 else ''}, {which}: syscalls {calls / a:9.0f} "
                      f"calls a second, the bare loop {calls / b:9.0f}: ratio {b / a:.2f}")
            ours, theirs = [], []
            many = str(calls * 100)
            for _ in range(7):
                ours.append(seconds([deeptrace, "syscalls", "--only", "sync", "--children", "trace", "--format", "csv", target,
                                     many], processors))
                theirs.append(seconds([filtered, target, many], processors))
            a, b = statistics.median(ours), statistics.median(theirs)
            print(f"   none of {many} chosen: {a:.3f} s, with a bare filter {b:.3f} s: ratio {b / a:.2f}")
        for times in (1, 10):
            subprocess.run([deeptrace, "syscalls", "--format", "csv", target, str(calls * times)],
                           stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
            print(f"{calls * times} calls: {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss} KB at most")


if __name__ == "__main__":
    main()
