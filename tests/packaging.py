#!/usr/bin/env python3
"""What is installed: the program and its tour, manual pages with every option, completion that completes, and the Debian
package where one can be built.   usage: packaging.py BUILD"""
import glob
import json
import os
import shutil
import subprocess
import sys
import tempfile


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
                           (["deeptrace", "listing", tidelog + "X"], [])):
        seen = completed(script, path, words)
        if seen != offered:
            wrong.append(f"{' '.join(words)}: offers {seen}, and not {offered}")
    for file, word in (("zsh/vendor-completions/_deeptrace", "--totals"), ("fish/vendor_completions.d/deeptrace.fish", "-l totals")):
        with open(os.path.join(share, file), encoding="utf-8") as text:
            if word not in text.read():
                wrong.append(f"{file} lacks {word}")
    return wrong


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
