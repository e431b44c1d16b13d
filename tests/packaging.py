#!/usr/bin/env python3
"""What is installed: the program and its tour, manual pages with every option, completion that completes, and the Debian
package where one can be built.   usage: packaging.py BUILD"""
import glob
import json
import os
import pty
import select
import shutil
import subprocess
import sys
import tempfile
import time


def run(words, **more):
    return subprocess.run(words, capture_output=True, text=True, check=False, **more)


def completed(script, path, words):
    """What bash would offer for the last of some words."""
    array = " ".join(f"'{word}'" for word in words)
    text = f'source "{script}"; COMP_WORDS=({array}); COMP_CWORD={len(words) - 1}; _deeptrace; printf "%s\\n" "${{COMPREPLY[@]}}"'
    return run(["bash", "-c", text], env={**os.environ, "PATH": path}).stdout.split()


def check_manuals(share, tool):
    wrong = []
    about = json.loads(run([tool, "--describe"]).stdout)
    for name in about["commands"]:
        command = json.loads(run([tool, name, "--describe"]).stdout)
        page = os.path.join(share, "man/man1", f"deeptrace-{name}.1")
        if not os.path.exists(page):
            wrong.append(f"{page} is not there")
            continue
        with open(page, encoding="utf-8") as file:
            text = file.read()
        help_text = run([tool, name, "--help"]).stdout
        for group in command["groups"]:
            for option in group["options"]:
                if "\\-\\-" + option["option"].replace("-", "\\-") not in text:
                    wrong.append(f"{page} lacks --{option['option']}")
                if "--" + option["option"] not in help_text:
                    wrong.append(f"the help of {name} lacks --{option['option']}")
        if shutil.which("groff"):
            made = run(["groff", "-man", "-Tutf8", "-ww", page])
            if made.stderr or name not in made.stdout:
                wrong.append(f"{page}: {made.stderr[:200]}")
    return wrong


def check_completion(share, path, tidelog):
    script = os.path.join(share, "bash-completion/completions/deeptrace")
    wrong = []
    for words, offered in ((["deeptrace", "sur"], ["survey"]), (["deeptrace", "syscalls", "--tot"], ["--totals"]),
                           (["deeptrace", "syscalls", "--totals", "l"], ["line"]),
                           (["deeptrace", "listing", tidelog, "level_s"], ["level_sum"]),
                           (["deeptrace", "explain", "fra"], ["frame"]),
                           (["deeptrace", "explain", "frame", tidelog, "level_s"], ["level_sum"]),
                           (["deeptrace", "compare", tidelog, tidelog + "-O2", "level_s"], ["level_sum"]),
                           (["deeptrace", "compare", tidelog, tidelog + "-O"], [tidelog + "-O2"]),
                           (["deeptrace", "listing", tidelog + "X"], [])):
        seen = completed(script, path, words)
        if seen != offered:
            wrong.append(f"{' '.join(words)}: offers {seen}, and not {offered}")
    return wrong


def offered_by_fish(share, path, line):
    script = os.path.join(share, "fish/vendor_completions.d/deeptrace.fish")
    seen = run(["fish", "--no-config", "-c", f"source '{script}'; complete -C \"{line}\""], env={**os.environ, "PATH": path})
    return [one.split("\t")[0] for one in seen.stdout.splitlines()]


class Zsh:
    """A shell at a terminal, which is given lines and the key that completes them."""

    def __init__(self, share, path, folder):
        self.process, self.terminal = pty.fork()
        if self.process == 0:
            os.environ.update(PATH=path, TERM="dumb", HOME=folder)
            os.execvp("zsh", ["zsh", "-f", "-i"])
        self.send(f"fpath=('{share}/zsh/vendor-completions' $fpath); PROMPT=; autoload compinit; compinit -u -D\n")
        self.send("setopt no_prompt_cr no_prompt_sp no_beep; print re''ady\n")
        self.read("ready\r\n")

    def send(self, text):
        os.write(self.terminal, text.encode())

    def read(self, until, seconds=20):
        text, end = "", time.monotonic() + seconds
        while until not in text and time.monotonic() < end:
            if select.select([self.terminal], [], [], 0.1)[0]:
                text += os.read(self.terminal, 4096).decode(errors="replace")
        return text

    def completed(self, line, word):
        """Whether the line's last word becomes another."""
        self.send("\x15" + line + "\t")
        return word in self.read(word, 10)

    def end(self):
        os.close(self.terminal)
        os.waitpid(self.process, 0)


def check_other_shells(share, path, tidelog, folder):
    """The same in the other two, where they are installed: those that are not are named."""
    wrong, missing = [], [shell for shell in ("zsh", "fish") if not shutil.which(shell)]
    o2 = tidelog + "-O2"
    cases = (("deeptrace sur", "survey"), ("deeptrace syscalls --tot", "--totals"), ("deeptrace syscalls --totals l", "line"),
             (f"deeptrace listing {tidelog} level_s", "level_sum"), ("deeptrace explain fra", "frame"),
             (f"deeptrace explain frame {tidelog} level_s", "level_sum"), (f"deeptrace compare {tidelog} {o2} level_s", "level_sum"))
    if "fish" not in missing:
        for line, word in cases:
            seen = offered_by_fish(share, path, line)
            if seen != [word]:
                wrong.append(f"fish, {line}: offers {seen}, and not {word}")
    if "zsh" not in missing:
        shell = Zsh(share, path, folder)
        wrong += [f"zsh, {line}: does not offer {word}" for line, word in cases if not shell.completed(line, word)]
        shell.end()
    return wrong, "".join(f", without {shell}, which is not installed" for shell in missing)


def main():
    build = os.path.abspath(sys.argv[1])
    wrong = []
    with tempfile.TemporaryDirectory() as folder:
        prefix = os.path.join(folder, "usr")
        made = run(["cmake", "--install", build, "--prefix", prefix])
        if made.returncode != 0:
            sys.exit("cmake --install: " + made.stderr[:500])
        tool, share = os.path.join(prefix, "bin/deeptrace"), os.path.join(prefix, "share")
        tidelog = os.path.join(share, "deeptrace/demo/tidelog")
        wrong += check_manuals(share, tool)
        wrong += check_completion(share, os.path.dirname(tool) + ":" + os.environ["PATH"], tidelog)
        others, without = check_other_shells(share, os.path.dirname(tool) + ":" + os.environ["PATH"], tidelog, folder)
        wrong += others
        tour = run([tool, "demo", "--save", os.path.join(folder, "tour")])
        if tour.returncode != 0:
            wrong.append(f"the tour of what is installed: status {tour.returncode}: {tour.stderr[:300]}")
        with open(os.path.join(folder, "tour/index.html"), encoding="utf-8") as file:
            index = file.read()
        results = glob.glob(os.path.join(folder, "tour/*/*"))
        for result in results:
            if f'href="{os.path.relpath(result, os.path.join(folder, "tour"))}"' not in index:
                wrong.append(f"the tour's page does not lead to {result}")
        if len(results) < 100:
            wrong.append(f"the tour left {len(results)} files")
        package = ""
        if shutil.which("cpack") and shutil.which("dpkg-shlibdeps"):
            made = run(["cpack", "--config", os.path.join(build, "CPackConfig.cmake"), "-B", os.path.join(folder, "package")])
            debs = glob.glob(os.path.join(folder, "package/**/*.deb"), recursive=True)
            if not debs:
                wrong.append(f"cpack: {made.stdout[-300:]} {made.stderr[-300:]}")
            else:
                package = f", {os.path.basename(debs[0])} of {os.path.getsize(debs[0]) // 1024} KB"
                root = os.path.join(folder, "root")
                run(["dpkg-deb", "-x", debs[0], root])
                depends = run(["dpkg-deb", "-f", debs[0], "Depends"]).stdout
                if "libfmt" not in depends or "libc6" not in depends:
                    wrong.append(f"the package depends on {depends}")
                said = run([os.path.join(root, "usr/bin/deeptrace"), "listing",
                            os.path.join(root, "usr/share/deeptrace/demo/tidelog"), "level_sum"])
                if said.returncode != 0 or "level_sum" not in said.stdout:
                    wrong.append(f"the packaged program: {said.stderr[:200]}")
        print(f"{len(results)} files of the tour{package}; {len(wrong)} wrong")
    for one in wrong[:20]:
        print("  " + one)
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
