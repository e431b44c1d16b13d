#!/usr/bin/env python3
"""A net under changes that must not change what people read: runs every command on the demo programs and keeps what each
said, on a terminal of 80 and of 200 columns and as JSON and CSV.

usage: replay.py DEEPTRACE FOLDER           keeps what that program says
       replay.py DEEPTRACE FOLDER --against compares with what is kept there; 1 where anything differs
Run from the build folder's `demo`, where the demo programs are."""
import difflib, fcntl, os, pty, re, struct, subprocess, sys, termios

TEXT = """
survey tidelog
survey tidelog tidelog-O2 gauge32
listing tidelog level_sum
listing tidelog-O2 level_sum --meaning
listing tidelog main --syntax att
listing beacon
listing tidelog --all
listing gauge32
lines tidelog-O2 levels.c
lines tidelog --at level_sum+8
data gauge32
data tidelog
data beacon
uses buoy page
uses --syscall write beacon
uses tidelog level_sum
compare tidelog tidelog-O2 level_sum
compare tidelog tidelog-O2
explain bytes 48 f7 7d f8
explain instruction idiv
explain instruction vfmadd231ps
explain flags 0x246
explain register rbx
explain 90
steps --from level_sum tidelog readings.txt
steps --from level_sum+0x1d --count 20 tidelog readings.txt
steps --from level_sum tidelog-O2 readings.txt
hits --at levels.c:34 --keep i,sum tidelog readings.txt
hits --at levels.c:34 --keep i,sum --card tidelog readings.txt
hits --on-write page.device.control buoy
hits --at main --keep argc gauge32
hits --on-return level_sum tidelog readings.txt
hits --halt 'on syscall write' beacon
plan levels.plan tidelog readings.txt
listing nowhere
listing tidelog no_such_function
"""
CONSOLE = {
    "tidelog readings.txt": "halts\nhalt at levels.c:34 when i == 2\nresume\nregs\nflags\nshow log->readings[i]\nshow sum\n"
                            "memory rsp as u64\nstack\nframes\nvars\ncode\nwhy\nthreads\nmodules\ntype struct log\nover\ninto 3\n"
                            "line\nmark a\nout\nregs since a\nfollow sum\nfind 17 in log\nset sum = 5\nhelp\nhelp set\nlift h1\nresume\n",
    "gauge32": "halt at levels_mean\nresume\nregs\nstack\nframes\nvars\nwhy\ninto 4\nout\nresume\n",
    "beacon": "code\ninto 6\nwhy\nregs\nresume\n",
    "station": "frames\nvars\nwhy\nquit\n",
}


def on_terminal(columns, words, typed=None):
    """What a program writes on a terminal of that width, errors included."""
    master, slave = pty.openpty()
    fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 50, columns, 0, 0))
    modes = termios.tcgetattr(slave)
    modes[1] &= ~termios.OPOST
    termios.tcsetattr(slave, termios.TCSANOW, modes)
    child = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=slave, stderr=slave,
                             env={"PATH": os.environ["PATH"], "HOME": os.environ.get("HOME", "/"), "LANG": "C.UTF-8"})
    os.close(slave)
    child.stdin.write((typed or "").encode())
    child.stdin.close()
    said = b""
    while True:
        try:
            piece = os.read(master, 65536)
        except OSError:
            break
        if not piece:
            break
        said += piece
    os.close(master)
    return said.decode("utf-8", "replace") + f"\nstatus {child.wait()}\n"


def plain(words):
    done = subprocess.run(words, capture_output=True, text=True, errors="replace")
    return done.stdout + done.stderr + f"\nstatus {done.returncode}\n"


def every_answer(program):
    for line in TEXT.strip().splitlines():
        words = [program] + [word.strip("'") for word in re.findall(r"'[^']*'|\S+", line)]
        for columns in (80, 200):
            yield f"{line} at {columns}", on_terminal(columns, words)
        for form in ("json", "csv"):
            yield f"{line} as {form}", plain(words[:2] + [FORM, form] + words[2:])
    for line, typed in CONSOLE.items():
        for columns in (80, 200):
            yield f"console {line} at {columns}", on_terminal(columns, [program, "console"] + line.split(), typed)


def settled(text):
    """Without what differs from run to run."""
    text = re.sub(r"\b(process|thread|task) \d{3,}", r"\1 N", text)
    text = re.sub(r"0x[0-9a-f]{14,16}.*", "0xN", text)  # of a guard that the C library mixes in
    text = re.sub(r"^(\d+,\w+),\d{3,},", r"\1,N,", text, flags=re.M)
    text = re.sub(r'"thread":\d{3,}', '"thread":N', text)
    return re.sub(r"\(\d{3,}\)", "(N)", text)


def main():
    global FORM
    program, folder, against = os.path.abspath(sys.argv[1]), sys.argv[2], "--against" in sys.argv
    FORM = "--format" if "--format" in plain([program, "listing", "--help"]) else "--format"
    os.makedirs(folder, exist_ok=True)
    different = 0
    for name, answer in every_answer(program):
        path = os.path.join(folder, re.sub(r"[^\w.-]+", "_", name))
        answer = settled(answer)
        if not against:
            open(path, "w").write(answer)
            continue
        kept = open(path).read()
        if kept != answer:
            different += 1
            print(f"== {name}")
            sys.stdout.writelines(line + "\n" for line in list(difflib.unified_diff(
                kept.splitlines(), answer.splitlines(), "kept", "now", lineterm="", n=0))[:12])
    print(f"{different} answers differ" if against else f"kept in {folder}")
    sys.exit(different != 0)


main()
