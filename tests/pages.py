#!/usr/bin/env python3
"""The pages in a real browser without a window: search, pointing, picking, links, light and dark; and nothing is asked
of anybody.   usage: pages.py DEEPTRACE DEMO   (ends with 77 where no browser is installed: the test counts as skipped)

The browser is driven through its WebDriver (https://www.w3.org/TR/webdriver2/) and its own protocol for what that has no
words for."""
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request

deeptrace, demo = map(os.path.abspath, sys.argv[1:3])
SKIPPED = 77
WIDTH, HEIGHT = 1280, 800
failures = []


def check(holds, what):
    if not holds:
        failures.append(what)


class Browser:
    """One window. Elements are found by what a style sheet would call them."""

    def __init__(self, folder):
        self.driver = subprocess.Popen(["chromedriver", "--port=0"], stdout=subprocess.PIPE, text=True,
                                       env=dict(os.environ, HOME=folder))
        port = None
        for line in self.driver.stdout:
            if "successfully on port" in line:
                port = line.rstrip().rstrip(".").split()[-1]
                break
        if port is None:
            raise ValueError("no port")
        self.root = f"http://127.0.0.1:{port}"
        arguments = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
                     "--disable-background-networking", "--disable-component-update", "--disable-sync",
                     "--disable-dev-shm-usage", f"--window-size={WIDTH},{HEIGHT}", f"--user-data-dir={folder}/profile"]
        wanted = {"browserName": "chrome", "goog:chromeOptions": {"args": arguments},
                  "goog:loggingPrefs": {"performance": "ALL", "browser": "ALL"}}
        try:
            session = self.ask("POST", "/session", {"capabilities": {"alwaysMatch": wanted}})
        except Exception:
            self.driver.kill()
            raise
        self.root += "/session/" + session["sessionId"]
        self.open("about:blank")
        self.log("performance")  # of the browser's own first page

    def ask(self, method, path, body=None):
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(self.root + path, data=data, method=method,
                                         headers={"Content-Type": "application/json"})
        with urllib.request.urlopen(request, timeout=30) as answer:
            return json.load(answer)["value"]

    def open(self, url):
        self.ask("POST", "/url", {"url": url})

    def run(self, script, *arguments):
        return self.ask("POST", "/execute/sync", {"script": script, "args": list(arguments)})

    def log(self, kind):
        return self.ask("POST", "/se/log", {"type": kind})

    def command(self, name, **parameters):
        return self.ask("POST", "/goog/cdp/execute", {"cmd": name, "params": parameters})

    def element(self, selector):
        return self.ask("POST", "/element", {"using": "css selector", "value": selector})

    def type(self, selector, keys):
        name, number = next(iter(self.element(selector).items()))
        assert name.startswith("element")
        self.ask("POST", f"/element/{number}/value", {"text": keys})

    def point(self, selector, press=False):
        self.run("document.querySelector(arguments[0]).scrollIntoView({block: 'center'})", selector)
        steps = [{"type": "pointerMove", "duration": 0, "x": 0, "y": 0, "origin": self.element(selector)}]
        if press:
            steps += [{"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}]
        self.ask("POST", "/actions", {"actions": [{"type": "pointer", "id": "mouse", "actions": steps}]})

    def text(self, selector):
        return self.run("return document.querySelector(arguments[0]).textContent", selector)

    def close(self):
        try:
            self.ask("DELETE", "")
        finally:
            self.driver.kill()
            self.driver.wait()


def requests_of(log):
    """What was asked for, by the browser's own account; data: and file: addresses leave nobody's machine."""
    asked = []
    for entry in log:
        message = json.loads(entry["message"])["message"]
        if message["method"] == "Network.requestWillBeSent":
            asked.append(message["params"]["request"]["url"])
    return asked


def save(folder, name, *words):
    result = subprocess.run([deeptrace, words[0], "--format", "none", "--save", os.path.join(folder, name),
                             "--save-formats", "html", *words[1:]], cwd=demo, capture_output=True, text=True)
    pages = [file for file in os.listdir(os.path.join(folder, name)) if file.endswith(".html")]
    check(len(pages) == 1, f"{name}: one page was saved, not {pages}: {result.stderr}")
    return "file://" + os.path.join(folder, name, pages[0])


def contrast(browser, selector):
    """The ratio of luminance of an element's text to the page under it (WCAG 2.2, 1.4.3)."""
    def luminance(colour):
        parts = [float(part) / 255 for part in colour[colour.index("(") + 1:-1].split(",")[:3]]
        linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
    ink, paper = browser.run("let at = document.querySelector(arguments[0]); const ink = getComputedStyle(at).color;"
                             "const paper = one => getComputedStyle(one).backgroundColor;"
                             "while (at !== document.body && paper(at).startsWith('rgba(')) at = at.parentElement;"
                             "return [ink, paper(at)]", selector)
    one, two = sorted((luminance(ink), luminance(paper)))
    return (two + 0.05) / (one + 0.05)


def check_everywhere(browser, name):
    """What holds of every page: both looks can be read, it fits the window, nothing is fetched, no script fails."""
    papers = []
    for look in ("light", "dark"):
        browser.command("Emulation.setEmulatedMedia", features=[{"name": "prefers-color-scheme", "value": look}])
        papers.append(browser.run("return getComputedStyle(document.body).backgroundColor"))
        for selector in ("h1", "h2", ".faint", ".note", ".ref"):
            if not browser.run("return document.querySelector(arguments[0]) !== null", selector):
                continue
            ratio = contrast(browser, selector)
            check(ratio >= 4.5, f"{name}, {look}: {selector} has a contrast of {ratio:.2f}, at least 4.5 is wanted")
    check(papers[0] != papers[1], f"{name}: light and dark look alike")
    wide = browser.run("return document.documentElement.scrollWidth")
    check(wide <= WIDTH, f"{name}: {wide} pixels wide")
    asked = [url for url in requests_of(browser.log("performance")) if not url.startswith(("file:", "data:"))]
    check(not asked, f"{name}: asks for {asked}")
    wrong = [entry["message"] for entry in browser.log("browser") if entry["level"] == "SEVERE"]
    check(not wrong, f"{name}: {wrong}")


def check_lines(browser, url):
    browser.open(url)
    check(browser.text("h1") == "tidelog", "lines: the heading is the program's name")
    line = browser.run("return [...document.querySelectorAll('#source .r[data-l]')]"
                       ".find(row => row.textContent.includes('sum += ')).dataset.l")
    row = f"#source .r[data-l='{line}']"
    code = f"#code .r[data-l='{line}']"

    browser.point(row)
    lit = browser.run("return [...document.querySelectorAll('.r.on')].map(row => row.dataset.l)")
    check(lit and set(lit) == {line}, f"lines: pointing at a line lights up {set(lit)}, not {line}")
    there = browser.run("return document.querySelectorAll(arguments[0] + '.on').length", code)
    check(there > 0, "lines: pointing at a line lights up its instructions")
    browser.point("h1")
    check(browser.run("return document.querySelectorAll('.r.on').length") == 0, "lines: nothing pointed at, nothing lit")

    browser.point(code, press=True)
    check(browser.run("return document.querySelectorAll('.r.kept').length") == there + 1,
          "lines: a press keeps a line and its instructions")
    place = browser.run("return location.hash")
    check(len(place) > 1, "lines: the kept line stands in the address")
    seen = browser.run("const b = document.querySelector(arguments[0]).getBoundingClientRect();"
                       "return b.top >= 0 && b.bottom <= innerHeight", row)
    check(seen, "lines: the kept line is brought into sight")

    browser.open("about:blank")
    browser.open(url + place)
    kept = browser.run("return [...document.querySelectorAll('.r.kept')].map(row => row.dataset.l)")
    check(set(kept) == {line}, f"lines: its address leads back to the line, not to {set(kept)}")

    browser.type("#search", "level_sum")
    count = browser.text("#count")
    rows = browser.run("return [...document.querySelectorAll('.r, h2')]"
                       ".filter(row => row.textContent.toLowerCase().includes('level_sum')).length")
    check(count == f"{rows} found" and rows > 3, f"lines: the search says '{count}' where {rows} rows have the word")
    browser.type("#search", "\ue007")  # Enter
    check(browser.text("#count") == f"1 of {rows}", f"lines: Enter goes to the first: '{browser.text('#count')}'")
    browser.type("#search", "nowhere")
    check(browser.text("#count") == "0 found", "lines: what is nowhere is not found")

    targets = browser.run("return [...document.querySelectorAll('a[href^=\"#\"]')]"
                          ".filter(a => !document.getElementById(decodeURIComponent(a.hash.slice(1)))).map(a => a.hash)")
    check(not targets, f"lines: links that lead nowhere: {targets[:5]}")
    check_everywhere(browser, "lines")


def check_compare(browser, files, function):
    browser.open(files)
    rows = browser.run("return document.querySelectorAll('table tr').length")
    check(rows > 5, f"compare: a table of functions, not {rows} rows")
    check_everywhere(browser, "compare, files")
    browser.open(function)
    check(browser.text("h2") == "level_sum", "compare: the function's name stands over it")
    check("frame" in browser.text("table"), "compare: stack frames of both")
    check_everywhere(browser, "compare, function")


def check_syscalls(browser, url):
    browser.open(url)
    rows = browser.run("return document.querySelectorAll('tbody tr').length")
    shown = "return [...document.querySelectorAll('tbody tr')].filter(row => row.offsetParent !== null).map(row => row.textContent)"
    check(rows > 8 and browser.text("#count") == f"{rows} calls", f"syscalls: '{browser.text('#count')}', {rows} rows")
    browser.type("#search", "relay.c:21 port")
    found = browser.run(shown)
    check(len(found) == 1 and "connect" in found[0], f"syscalls: rows that have both words: {found}")
    check(browser.text("#count") == f"1 of {rows} calls", f"syscalls: '{browser.text('#count')}'")
    browser.open(url)
    browser.point("#bad", press=True)
    found = browser.run(shown)
    check(len(found) == 1 and "htons" in found[0], f"syscalls: those with errors and findings: {found}")
    check_everywhere(browser, "syscalls")


def check_calls(browser, url):
    browser.open(url)
    calls = browser.run("return document.querySelectorAll('[data-n]').length")
    shown = ("return [...document.querySelectorAll('[data-n]')].filter(call => call.checkVisibility())"
             ".map(call => (call.matches('details') ? call.querySelector('summary') : call).textContent)")
    check(calls == 20 and browser.text("#count") == "20 calls", f"calls: '{browser.text('#count')}', {calls} calls")
    check(browser.run("return document.querySelector('main > details summary').textContent").find("→ 0x0") > 0,
          "calls: what came back stands in the head of a branch")
    browser.point("#fold", press=True)
    check(len(browser.run(shown)) == 17, f"calls: folded, {len(browser.run(shown))} are seen")
    browser.type("#search", "lowest levels")
    found = browser.run(shown)
    check(len(found) == 3 and "fall_of_wide" in found[1] and "lowest" in found[2],
          f"calls: the way to what is searched is open: {found}")
    browser.open(url)
    browser.point("#bad", press=True)
    found = browser.run(shown)
    check(len(found) == 3 and "wrong: eax is read" in found[2], f"calls: those with findings: {found}")
    check_everywhere(browser, "calls")


def main():
    if not shutil.which("chromedriver"):
        print("no browser is installed (packages chromium and chromium-driver): not tested")
        return SKIPPED
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        pages = [save(folder, "lines", "lines", "tidelog"), save(folder, "files", "compare", "tidelog", "tidelog-O2"),
                 save(folder, "function", "compare", "tidelog", "tidelog-O2", "level_sum"),
                 save(folder, "syscalls", "syscalls", "--children", "trace", "./relay", "turned"),
                 save(folder, "calls", "calls", "--check", "./ebb", "narrow")]
        try:
            browser = Browser(folder)
        except (OSError, ValueError) as problem:
            print(f"the browser does not start ({problem}): not tested")
            return SKIPPED
        try:
            check_lines(browser, pages[0])
            check_compare(browser, *pages[1:3])
            check_syscalls(browser, pages[3])
            check_calls(browser, pages[4])
        finally:
            browser.close()
        time.sleep(0.2)  # its processes still write to the folder
    for failure in failures:
        print("FAILED:", failure)
    print(f"{len(pages)} pages, {len(failures)} failures")
    return 1 if failures else 0


sys.exit(main())
