#!/usr/bin/env python3
"""The Debian package in a root where nothing is but what it says it needs: no compiler, no sources, no shell even.
usage: empty_root.py BUILD [ROOT]

The root is made of the files of the packages that it depends on, taken from this machine; or it is ROOT, a fresh system as
debootstrap makes one, into which the package is installed by apt-get. Then the main commands are run there on the demo
programs, and the tour. Skipped (77) where no package can be built or no root can be entered."""
import glob
import os
import shutil
import subprocess
import sys
import tempfile

DEMO = "/usr/share/deeptrace/demo/"
# Words, exit status, what is said. "@" stands for the folder of the demo programs.
CASES = [
    (["survey", "@tidelog"], 0, "executable"), (["survey", "--check", "@ebb"], 1, "wrong:"),
    (["listing", "@tidelog", "level_sum"], 0, "level_sum"), (["lines", "@tidelog", "levels.c"], 0, "levels.c"),
    (["data", "@sluice"], 0, "sluice"), (["uses", "@tidelog", "level_sum"], 0, "print_summary"),
    (["compare", "@tidelog", "@tidelog-O2", "level_sum"], 1, "level_sum"), (["explain", "bytes", "48f77df8"], 0, "idiv"),
    (["explain", "syscall", "connect"], 0, "ECONNREFUSED"), (["explain", "passing", "int f(long a, double b)"], 0, "xmm0"),
    (["explain", "frame", "@tidelog", "level_sum"], 0, "return address"),
    (["hits", "--halt", "at level_sum", "--keep", "arg(1)", "--work-dir", "@", "@tidelog"], 0, "level_sum"),
    (["steps", "--from", "level_sum", "--count", "5", "--work-dir", "@", "@tidelog"], 0, "level_sum"),
    (["syscalls", "@beacon"], 0, "write"), (["syscalls", "@beacon32"], 0, "write"), (["calls", "--work-dir", "@", "@tidelog"], 0, "level_sum"),
    (["fault", "@reef", "number"], 0, "SIGSEGV"), (["plan", "--work-dir", "@", "@levels.plan", "@tidelog"], 0, "4 expectations held"),
    (["demo", "--save", "/tmp/tour"], 0, "index.html"),
]


def run(words, **more):
    return subprocess.run(words, capture_output=True, text=True, check=False, **more)


def skip(why):
    print("skipped: " + why)
    sys.exit(77)


def needed(package):
    """The packages that a package depends on, itself left out; of alternatives the one that is installed."""
    found, left = set(), [depends for depends in run(["dpkg-deb", "-f", package, "Depends"]).stdout.split(",")]
    while left:
        for one in left.pop().split("|"):
            name = one.split("(")[0].strip().split(":")[0]
            status = run(["dpkg-query", "-W", "-f=${db:Status-Status} ${Depends}, ${Pre-Depends}", name]).stdout
            if name and status.startswith("installed") and name not in found:
                found.add(name)
                left += status.partition(" ")[2].split(",")
            if name in found:
                break
        else:
            if one.strip():
                sys.exit(f"{one.strip()} is needed and not installed here")
    return sorted(found)


def fill(root, packages):
    files = run(["dpkg-query", "-L", *packages]).stdout.split("\n")
    listing = "\n".join(sorted({file for file in files if file.startswith("/") and not file.startswith("/usr/share/doc")
                                and not file.startswith("/usr/share/locale") and (os.path.islink(file) or os.path.isfile(file))}))
    for name in ("bin", "lib", "lib32", "lib64", "sbin"):  # merged into /usr
        os.makedirs(os.path.join(root, "usr", name), exist_ok=True)
        os.symlink("usr/" + name, os.path.join(root, name))
    with subprocess.Popen(["tar", "-C", "/", "-cf", "-", "-T", "-"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                          stderr=subprocess.DEVNULL) as pack:
        with subprocess.Popen(["tar", "-C", root, "--keep-directory-symlink", "-xf", "-"], stdin=pack.stdout) as unpack:
            pack.stdin.write("\n".join(file[1:] for file in listing.split("\n")).encode())
            pack.stdin.close()
            unpack.wait()
    run(["ldconfig", "-r", root])


def in_root(root, words):
    """A command there, with processes of its own to be seen: what is mounted for it is gone when it ends."""
    mount = 'mount -t proc proc "$0/proc" && exec chroot "$0" "$@"'
    return run(["unshare", "--mount", "sh", "-c", mount, root, *words], stdin=subprocess.DEVNULL,
               env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8", "DEEPTRACE_CONFIG": ""})


def main():
    build = os.path.abspath(sys.argv[1])
    if os.geteuid() != 0 or not all(shutil.which(tool) for tool in ("cpack", "dpkg-shlibdeps", "dpkg-deb", "chroot", "unshare")):
        skip("it takes a superuser and the tools of Debian's packages")
    with tempfile.TemporaryDirectory() as folder:
        run(["cpack", "--config", os.path.join(build, "CPackConfig.cmake"), "-B", folder])
        debs = glob.glob(os.path.join(folder, "**/*.deb"), recursive=True)
        if not debs:
            sys.exit("cpack made no package")
        root = os.path.abspath(sys.argv[2]) if len(sys.argv) > 2 else os.path.join(folder, "root")
        packages = []
        if len(sys.argv) > 2:
            shutil.copy(debs[0], os.path.join(root, "tmp/deeptrace.deb"))
            made = run(["chroot", root, "sh", "-c", "apt-get update -qq; DEBIAN_FRONTEND=noninteractive apt-get install -y -qq "
                        "--no-install-recommends /tmp/deeptrace.deb"])
            if made.returncode != 0:
                sys.exit("apt-get: " + made.stderr[-500:])
        else:
            packages = needed(debs[0])
            for name in ("proc", "tmp", "dev"):
                os.makedirs(os.path.join(root, name))
            fill(root, packages)
            run(["dpkg-deb", "-x", debs[0], root])
            # What these packages make as they are installed.
            run(["chroot", root, "/usr/sbin/libgvc6-config-update", "-c"])
            os.makedirs(os.path.join(root, "var/cache/fontconfig"))
        if run(["unshare", "--mount", "mount", "-t", "proc", "proc", os.path.join(root, "proc")]).returncode != 0:
            skip("nothing can be mounted here")
        wrong = []
        for words, status, said in CASES:
            words = [word.replace("@", DEMO) for word in words]
            seen = in_root(root, ["/usr/bin/deeptrace", *words])
            if seen.returncode != status or said not in seen.stdout:
                wrong.append(f"{' '.join(words)}: status {seen.returncode}, {seen.stderr[:300]} {seen.stdout[-200:]}")
        if not os.path.exists(os.path.join(root, "tmp/tour/index.html")):
            wrong.append("the tour left no page")
        compilers = [tool for tool in ("gcc", "cc", "as", "ld") if os.path.exists(os.path.join(root, "usr/bin", tool))]
        if compilers:
            wrong.append(f"the root is not empty: {compilers}")
    where = f"a root of {len(packages)} packages" if packages else "a fresh system"
    print(f"{len(CASES)} commands in {where}; {len(wrong)} wrong")
    for one in wrong:
        print("  " + one)
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
