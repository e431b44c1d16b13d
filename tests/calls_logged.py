#!/usr/bin/env python3
"""Many system calls with chosen arguments, against what the program itself logged of them, thread by thread; the names of
flags against the headers; how many calls real programs make against a counter of its own.
usage: calls_logged.py TOOL [SEED]"""
import json
import os
import random
import re
import subprocess
import sys
import tempfile

FILES = ["fd_null", "fd_file", "-1", "77", "fd_dir"]
PATHS = ["none", "file", "folder", "(char *)1", "(char *)0"]
ROOM = ["room", "(char *)0", "(char *)1"]
OPEN = ["O_RDONLY", "O_WRONLY", "O_RDWR", "O_RDWR | O_APPEND", "O_RDONLY | O_DIRECTORY", "O_RDONLY | O_NOFOLLOW | O_CLOEXEC",
        "O_WRONLY | O_EXCL | O_NONBLOCK", "O_RDONLY | O_PATH", "O_RDWR | O_SYNC", "O_RDONLY | 0x40000000"]
AT = ["AT_FDCWD", "fd_dir", "-1"]
SIZES = ["0", "1", "7", "64"]
PROT = ["PROT_NONE", "PROT_READ", "PROT_READ | PROT_WRITE", "PROT_READ | PROT_EXEC"]
MAP = ["MAP_PRIVATE | MAP_ANONYMOUS", "MAP_SHARED | MAP_ANONYMOUS", "MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE",
       "MAP_PRIVATE | MAP_ANONYMOUS | MAP_POPULATE", "0"]
FAMILY = ["AF_INET", "AF_INET6", "AF_UNIX", "AF_NETLINK", "99"]
TYPE = ["SOCK_STREAM", "SOCK_DGRAM | SOCK_CLOEXEC", "SOCK_STREAM | SOCK_NONBLOCK", "SOCK_SEQPACKET"]
SIGNAL = ["SIGUSR1", "SIGTERM", "SIGCHLD", "64", "0", "99"]
CLOCK = ["CLOCK_REALTIME", "CLOCK_MONOTONIC", "CLOCK_BOOTTIME", "CLOCK_THREAD_CPUTIME_ID", "77"]
RESOURCE = ["RLIMIT_NOFILE", "RLIMIT_STACK", "RLIMIT_CORE", "99"]
MODE = ["0600", "0755", "04711", "0"]
CALLS = {
    "read": [FILES, ROOM, SIZES], "write": [["fd_null", "-1", "77"], ["text", "(char *)1"], SIZES],
    "open": [PATHS, OPEN, MODE], "openat": [AT, PATHS, OPEN, MODE], "close": [["-1", "77"]],
    "lseek": [FILES, SIZES, ["SEEK_SET", "SEEK_CUR", "SEEK_END", "SEEK_DATA", "9"]],
    "mmap": [["0"], ["4096", "8192", "0"], PROT, MAP, ["-1"], ["0"]],
    "mmap2": [["0"], ["4096", "8192", "0"], PROT, MAP, ["-1"], ["0"]],
    "mprotect": [["1", "0x10000"], ["4096"], PROT], "munmap": [["1"], ["4096"]],
    "madvise": [["0x10000"], ["4096"], ["MADV_NORMAL", "MADV_DONTNEED", "MADV_WILLNEED", "200"]],
    "access": [PATHS, ["F_OK", "R_OK | W_OK", "X_OK"]], "faccessat": [AT, PATHS, ["F_OK", "R_OK | X_OK"]],
    "pread64": [FILES, ROOM, SIZES, ["0", "3"]], "pwrite64": [["fd_null", "-1"], ["text"], SIZES, ["0"]],
    "dup": [FILES], "dup3": [FILES, ["fd_spare"], ["0", "O_CLOEXEC", "1"]],
    "fcntl": [FILES, ["F_GETFD", "F_GETFL", "F_GETOWN"], ["0"]],
    "fcntl64": [FILES, ["F_GETFD", "F_GETFL", "F_GETOWN"], ["0"]],
    "flock": [FILES, ["LOCK_SH | LOCK_NB", "LOCK_UN", "LOCK_EX | LOCK_NB"]], "fsync": [FILES], "fdatasync": [FILES],
    "ftruncate": [["-1", "fd_dir"], ["5"]], "truncate": [["none"], ["5"]], "getcwd": [ROOM, ["64", "0"]],
    "chdir": [["none"]], "mkdir": [["file", "folder"], MODE], "mkdirat": [AT, ["file"], MODE], "rmdir": [["none", "file"]],
    "unlink": [["none", "folder"]], "unlinkat": [AT, ["none"], ["0", "AT_REMOVEDIR"]], "rename": [["none"], ["file"]],
    "renameat2": [["AT_FDCWD"], ["none"], ["AT_FDCWD"], ["file"], ["0", "RENAME_NOREPLACE", "RENAME_EXCHANGE"]],
    "link": [["none"], ["file"]], "linkat": [AT, ["none"], AT, ["file"], ["0", "AT_SYMLINK_FOLLOW"]],
    "symlink": [["none"], ["file"]], "readlink": [PATHS, ROOM, SIZES], "readlinkat": [AT, PATHS, ROOM, SIZES],
    "chmod": [["none"], MODE], "fchmod": [["-1"], MODE], "fchmodat": [AT, ["none"], MODE], "umask": [["022"]],
    "gettimeofday": [ROOM, ["0"]], "getrlimit": [RESOURCE, ROOM], "getrusage": [["0", "RUSAGE_CHILDREN", "9"], ROOM],
    "prlimit64": [["0", "-1"], RESOURCE, ["0"], ROOM], "sysinfo": [ROOM], "times": [ROOM], "uname": [ROOM],
    "getpid": [], "getppid": [], "gettid": [], "getuid": [], "geteuid": [], "getgid": [], "getegid": [], "getpgrp": [],
    "getpgid": [["0", "-1"]], "getsid": [["0", "-1"]], "getpriority": [["PRIO_PROCESS", "PRIO_USER", "9"], ["0"]],
    "sigaltstack": [["0"], ROOM], "statfs": [PATHS, ROOM], "fstatfs": [FILES, ROOM],
    "rt_sigprocmask": [["SIG_BLOCK", "SIG_UNBLOCK", "9"], ["0"], ROOM, ["8", "4"]],
    "rt_sigaction": [SIGNAL, ["0"], ROOM, ["8", "3"]], "rt_sigpending": [ROOM, ["8"]],
    "prctl": [["PR_GET_NAME", "PR_GET_DUMPABLE", "PR_GET_KEEPCAPS", "9999"], ["room"], ["0"], ["0"], ["0"]],
    "ioctl": [FILES, ["TCGETS", "FIONREAD", "TIOCGWINSZ", "0x9999"], ["room"]],
    "futex": [["room"], ["FUTEX_WAKE", "FUTEX_WAKE | FUTEX_PRIVATE_FLAG", "99"], ["1"], ["0"], ["0"], ["0"]],
    "sched_yield": [], "sched_getscheduler": [["0", "-1"]], "sched_get_priority_max": [["0", "1", "9"]],
    "sched_getaffinity": [["0"], ["64", "0"], ROOM], "clock_gettime": [CLOCK, ROOM], "clock_getres": [CLOCK, ROOM],
    "tgkill": [["-1"], ["-1"], SIGNAL], "kill": [["0x3ffffff"], SIGNAL],
    "socket": [FAMILY, TYPE, ["0", "IPPROTO_TCP"]], "listen": [["-1", "fd_file"], SIZES],
    "shutdown": [["-1", "fd_file"], ["SHUT_RD", "SHUT_WR", "SHUT_RDWR"]],
    "getsockopt": [["fd_file", "-1"], ["SOL_SOCKET"], ["SO_TYPE", "SO_ERROR"], ROOM, ["room"]],
    "sendto": [["fd_file", "-1"], ["text"], SIZES, ["0", "MSG_NOSIGNAL", "MSG_DONTWAIT | MSG_MORE"], ["0"], ["0"]],
    "recvfrom": [["fd_file", "-1"], ["room"], SIZES, ["0", "MSG_PEEK", "MSG_DONTWAIT | MSG_TRUNC"], ["0"], ["0"]],
    "epoll_create1": [["0", "EPOLL_CLOEXEC", "7"]],
    "epoll_ctl": [["-1", "fd_file"], ["EPOLL_CTL_ADD", "EPOLL_CTL_DEL", "9"], FILES, ["room"]],
    "eventfd2": [SIZES, ["0", "EFD_CLOEXEC | EFD_NONBLOCK", "EFD_SEMAPHORE", "2"]],
    "timerfd_create": [CLOCK, ["0", "TFD_CLOEXEC", "TFD_NONBLOCK"]], "inotify_init1": [["0", "IN_CLOEXEC", "IN_NONBLOCK"]],
    "pipe2": [["room", "(char *)1"], ["0", "O_CLOEXEC", "O_NONBLOCK | O_DIRECT"]],
    "getrandom": [["room"], SIZES, ["0", "GRND_NONBLOCK", "GRND_RANDOM | GRND_NONBLOCK"]],
    "memfd_create": [["file", "(char *)1"], ["0", "MFD_CLOEXEC", "MFD_ALLOW_SEALING | MFD_CLOEXEC"]],
    "statx": [AT, PATHS, ["0", "AT_EMPTY_PATH", "AT_SYMLINK_NOFOLLOW"], ["STATX_BASIC_STATS", "STATX_SIZE | STATX_MODE"],
              ["(char *)1", "(char *)0"]],
    "getcpu": [["room", "0"], ["0"], ["0"]], "membarrier": [["MEMBARRIER_CMD_QUERY", "999"], ["0"], ["0"]],
    "fallocate": [["-1"], ["0", "FALLOC_FL_KEEP_SIZE"], ["0"], ["4"]], "sync_file_range": [["-1"], ["0"], ["4"], ["1"]],
    "getdents64": [["fd_dir", "fd_file", "-1"], ["room"], ["600"]], "mlock": [["1"], ["4096"]],
    "msync": [["0x10000"], ["4096"], ["MS_SYNC", "MS_ASYNC | MS_INVALIDATE"]],
    "waitid": [["P_ALL", "P_PID"], ["1"], ["room"], ["WEXITED | WNOHANG", "WSTOPPED | WNOHANG"], ["0"]],
    "wait4": [["-1"], ["room"], ["WNOHANG", "WNOHANG | WUNTRACED"], ["0"]],
}
HEADERS = """#define _GNU_SOURCE
#include <dirent.h>
#include <fcntl.h>
#include <linux/falloc.h>
#include <linux/futex.h>
#include <linux/membarrier.h>
#include <linux/stat.h>
#include <poll.h>
#include <pthread.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <errno.h>
#include <sys/epoll.h>
#include <sys/eventfd.h>
#include <sys/file.h>
#include <sys/inotify.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/random.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <netinet/in.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <sys/timerfd.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>
"""
PROGRAM = HEADERS + """
#ifndef RENAME_NOREPLACE
#define RENAME_NOREPLACE 1
#define RENAME_EXCHANGE 2
#endif
static int fd_null, fd_file, fd_dir, fd_spare = 900;
static char text[64] = "level 17 at the pier, rising";
static char none[] = "no such file", file[] = "levels.txt", folder[] = "logs";
struct line { long number, arguments[6], result; };
static struct line logged[THREADS + 1][COUNT];
static int counts[THREADS + 1];
static void one(int thread, long number, long a, long b, long c, long d, long e, long f) {
  errno = 0;
  long result = syscall(number, a, b, c, d, e, f);
  if (result == -1 && errno != 0) result = -errno;
  logged[thread][counts[thread]++] = (struct line){number, {a, b, c, d, e, f}, result};
}
%s
int main(void) {
  fd_null = open("/dev/null", O_RDWR);
  fd_file = open("levels.txt", O_RDWR | O_CREAT, 0644);
  mkdir("logs", 0755);
  fd_dir = open("logs", O_RDONLY | O_DIRECTORY);
  pthread_t threads[THREADS];
  for (int i = 0; i < THREADS; i++) pthread_create(&threads[i], 0, work[i], 0);
  for (int i = 0; i < THREADS; i++) pthread_join(threads[i], 0);
  FILE *log = fopen("log", "w");
  for (int i = 0; i < THREADS; i++) {
    for (int j = 0; j < counts[i]; j++) {
      struct line *l = &logged[i][j];
      fprintf(log, "%%d %%ld", i, l->number);
      for (int k = 0; k < 6; k++) fprintf(log, " %%lx", (unsigned long)l->arguments[k]);
      fprintf(log, " %%ld\\n", l->result);
    }
  }
  fclose(log);
  return 0;
}
"""
COUNTER = """#include <stdio.h>
#include <signal.h>
#include <sys/ptrace.h>
#include <sys/wait.h>
#include <unistd.h>
int main(int count, char **words) {
  pid_t child = fork();
  if (child == 0) {
    ptrace(PTRACE_TRACEME, 0, 0, 0);
    raise(SIGSTOP);
    execvp(words[2], words + 2);
    _exit(1);
  }
  int status;
  unsigned long calls = 0, begun = 0;
  waitpid(child, &status, 0);
  ptrace(PTRACE_SETOPTIONS, child, 0, 0x1 | 0x2 | 0x4 | 0x8 | 0x10);
  ptrace(PTRACE_SYSCALL, child, 0, 0);
  for (pid_t who; (who = waitpid(-1, &status, __WALL)) > 0;) {
    if (!WIFSTOPPED(status)) continue;
    int signal = WSTOPSIG(status), pass = 0;
    if (signal == (SIGTRAP | 0x80)) {
      struct __ptrace_syscall_info info = {0};
      ptrace(PTRACE_GET_SYSCALL_INFO, who, sizeof info, &info);
      calls += info.op == 1;
    } else if (status >> 16 == PTRACE_EVENT_EXEC && !begun) {
      calls = 0;
      begun = 1;
    } else if (status >> 16 == 0 && signal != SIGSTOP && signal != SIGTRAP) {
      pass = signal;
    }
    ptrace(PTRACE_SYSCALL, who, 0, pass);
  }
  FILE *out = fopen(words[1], "w");
  fprintf(out, "%lu\\n", calls);
  return 0;
}
"""
THREADS = 3


def functions(rng, rounds):
    """C functions that make every call of the table some times, one function a thread."""
    text, most = "", 0
    for thread in range(THREADS):
        lines = []
        for _ in range(rounds):
            names = list(CALLS)
            rng.shuffle(names)
            for name in names:
                words = [f"(long)({rng.choice(pool)})" for pool in CALLS[name]] + ["0"] * (6 - len(CALLS[name]))
                lines.append(f"#ifdef SYS_{name}\n  one({thread}, SYS_{name}, {', '.join(words)});\n#endif\n")
        most = max(most, len(lines))
        text += f"static void *work_{thread}(void *none_of_it) {{\n  static char room[4096];\n{''.join(lines)}  return 0;\n}}\n"
    names = ", ".join(f"work_{thread}" for thread in range(THREADS))
    text += f"static void *(*const work[THREADS])(void *) = {{{names}}};\n"
    return text, most


def as_number(value):
    if value is None:
        return None
    for key in ("hex", "value"):
        if key in value and isinstance(value[key], str):
            return int(value[key], 16)
    return None


def spelled(calls, folder, options):
    """Names of constants in what was decoded, and the numbers that they are to make."""
    said = []
    for call in calls:
        for argument in call["arguments"]:
            value = argument["value"]
            kind = argument["type"]
            if not value or "text" not in value or not kind.startswith("flags"):
                continue
            words = value["text"].split("|")
            if all(re.fullmatch(r"[A-Z][A-Za-z0-9_]*|0|0x[0-9a-f]+", word) for word in words):
                said.append((call["name"], argument["name"], words, as_number(value) & 0xffffffff))
    names = sorted({word for _, _, words, _ in said for word in words if word[0].isalpha()})
    source = os.path.join(folder, "names.c")
    with open(source, "w", encoding="utf-8") as file:
        file.write(HEADERS + "int main(void) {\n" + "".join(
            f'#ifdef {name}\n  printf("{name} %lld\\n", (long long){name});\n#endif\n' for name in names) + "}\n")
    subprocess.run(["gcc", "-w", *options, "-o", source[:-2], source], check=True)
    printed = subprocess.run([source[:-2]], capture_output=True, text=True, check=True).stdout
    numbers = {line.split()[0]: int(line.split()[1]) for line in printed.splitlines()}
    wrong, checked = [], 0
    for call, argument, words, number in said:
        if any(word[0].isalpha() and word not in numbers for word in words):
            continue
        total = 0
        for word in words:
            total |= numbers[word] if word[0].isalpha() else int(word, 0)
        checked += 1
        if total & 0xffffffff != number:
            wrong.append(f"{call}: {argument} {'|'.join(words)} is {total:#x}, and not {number:#x}")
    return wrong, checked


def check_log(tool, seed, bits, rounds):
    rng = random.Random(seed * 64 + bits)
    wrong = []
    with tempfile.TemporaryDirectory() as folder:
        text, most = functions(rng, rounds)
        with open(os.path.join(folder, "many.c"), "w", encoding="utf-8") as file:
            file.write(PROGRAM % text)
        program = os.path.join(folder, "many")
        options = [f"-m{bits}", "-pthread"]
        subprocess.run(["gcc", "-g", "-O1", "-w", *options, f"-DTHREADS={THREADS}", f"-DCOUNT={most}", "-o", program,
                        program + ".c"], check=True)
        run = subprocess.run([tool, "syscalls", "--all", "--format", "json", "--work-dir", folder, program],
                             capture_output=True, text=True, timeout=300, check=False)
        said = json.loads(run.stdout)
        with open(os.path.join(folder, "log"), encoding="utf-8") as file:
            logged = [line.split() for line in file]
        made = [call for call in said["calls"] if call["file"] and call["line"]]
        traced = {}
        for call in made:
            if call["function"] and call["function"].startswith("one"):
                traced.setdefault(call["thread"], []).append(call)
        if len(traced) != THREADS:
            return [f"{bits} bits: calls of {len(traced)} threads, and not of {THREADS}: {run.stderr[:200]}"], 0, 0
        compared = 0
        word = (1 << bits) - 1
        for thread in range(THREADS):
            own = [line for line in logged if int(line[0]) == thread]
            # Threads may begin in any order; each makes the calls in an order of its own.
            numbers = [int(line[1]) for line in own]
            calls = next((calls for calls in traced.values() if [call["number"] for call in calls] == numbers), None)
            if calls is None:
                wrong.append(f"{bits} bits: no thread made the {len(own)} calls that thread {thread} logged: "
                             f"{[len(calls) for calls in traced.values()]}")
                continue
            for line, call in zip(own, calls):
                number, arguments, result = int(line[1]), [int(one, 16) for one in line[2:8]], int(line[8])
                problems = []
                if call["number"] != number:
                    problems.append(f"number {call['number']}")
                for i, (one, raw) in enumerate(zip(call["arguments"], arguments)):
                    seen = as_number(one["value"])
                    if one["name"].endswith("_lo"):  # shown with the upper half beside it
                        if seen != raw + (arguments[i + 1] << 32):
                            problems.append(f"{one['name']} {seen:#x}")
                        continue
                    # What depends on others, or is not used, has no number; ints are the lower half of their register.
                    if seen is not None and seen != raw & word and seen != raw & 0xffffffff:
                        problems.append(f"{one['name']} {seen:#x}")
                if (call["error"] is None) != (result >= 0 or result < -4095):
                    problems.append(f"error {call['error']}")
                elif call["error"] and os.strerror(-result) != call["meaning"]:
                    problems.append(f"error {call['error']}")
                elif not call["error"] and call["result"] and as_number(call["result"]) & 0xffffffff != result & 0xffffffff:
                    problems.append(f"result {call['result']}")
                elif not call["error"] and not call["result"] and result != 0:
                    problems.append("no result")
                if problems:
                    wrong.append(f"{bits} bits: {call['name']}: logged {' '.join(line[1:])}, seen with {'; '.join(problems)}")
                compared += 1
        names, flags = spelled([call for calls in traced.values() for call in calls], folder, [f"-m{bits}"])
        return wrong + names, compared, flags


def read(path):
    with open(path, encoding="utf-8") as file:
        return file.read()


def check_counts(tool):
    """Real programs that make as many calls each time."""
    wrong, done = [], []
    with tempfile.TemporaryDirectory() as folder:
        counter = os.path.join(folder, "counter")
        with open(counter + ".c", "w", encoding="utf-8") as file:
            file.write(COUNTER)
        subprocess.run(["gcc", "-O2", "-w", "-o", counter, counter + ".c"], check=True)
        with open(os.path.join(folder, "tide.c"), "w", encoding="utf-8") as file:
            file.write("int tide(int n) { return n * 2; }\n")
        with open(os.path.join(folder, "store.py"), "w", encoding="utf-8") as file:
            file.write("import sqlite3\nbase = sqlite3.connect('levels.db')\nbase.execute('create table if not exists l "
                       "(m, v)')\nbase.executemany('insert into l values (?, ?)', [(i, i * i) for i in range(50)])\n"
                       "base.commit()\nprint(base.execute('select sum(v) from l where m < 50').fetchone()[0] % 40425)\n")
        programs = {"compiler": ["gcc", "-c", "tide.c", "-o", "tide.o"], "pipeline": ["sh", "-c", "seq 40 | sort -r | wc -l"],
                    "database": [sys.executable, "-B", "store.py"], "archive": ["tar", "cf", "out.tar", "tide.c", "store.py"]}
        for name, words in programs.items():
            results = []
            # A program may depend on what it left the first time.
            subprocess.run(words, cwd=folder, capture_output=True, check=False)
            for _ in range(3):
                with open(os.path.join(folder, "plain"), "w", encoding="utf-8") as file:
                    subprocess.run([counter, os.path.join(folder, "count"), *words], cwd=folder, stdout=file,
                                   stderr=subprocess.PIPE, check=False)
                bare = int(read(os.path.join(folder, "count")))
                run = subprocess.run([tool, "syscalls", "--all", "--children", "trace", "--randomise", "--format", "json",
                                      "--program-output", os.path.join(folder, "out"), *words], cwd=folder,
                                     capture_output=True, text=True, check=False)
                said = json.loads(run.stdout)
                same = read(os.path.join(folder, "plain")) == read(os.path.join(folder, "out"))
                results.append((bare, len(said["calls"]), same, [f["text"] for f in said["findings"]],
                                [c["name"] for c in said["calls"] if c["name"].isdigit()]))
                if results[-1][0] == results[-1][1]:
                    break
            seen = results[-1]
            done.append(f"{name} {seen[1]}")
            if all(one[0] != one[1] for one in results):
                wrong.append(f"{name}: {[one[:2] for one in results]} calls by the counter and by us")
            if not seen[2]:
                wrong.append(f"{name}: its output is another")
            wrong += [f"{name}: {what}" for what in seen[4]]
    return wrong, done


def main():
    tool = os.path.abspath(sys.argv[1])
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 17
    failures = []
    for bits in (64, 32):
        wrong, compared, flags = check_log(tool, seed, bits, 2)
        print(f"{bits} bits: {compared} calls as they were logged, {flags} sets of flags as the headers have them, "
              f"{len(wrong)} wrong")
        failures += wrong
    wrong, done = check_counts(tool)
    print(f"calls of real programs, as a counter has them: {', '.join(done)}; {len(wrong)} wrong")
    failures += wrong
    for one in failures[:30]:
        print("  " + one[:300])
    sys.exit(1 if failures else 0)


if __name__ == "__main__":
    main()
