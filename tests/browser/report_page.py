#!/usr/bin/env python3
"""Opens reports of the program in headless Chromium, as their readers do, through the WebDriver protocol.

usage: report_page.py PROGRAM
"""
import base64
import http.client
import json
import os
import pathlib
import re
import shutil
import subprocess
import sys
import tempfile
import time

FLAGS = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--window-size=1280,800",
         "--disable-background-networking", "--disable-component-update", "--disable-sync", "--hide-scrollbars"]
SETTINGS = {"capabilities": {"alwaysMatch": {"browserName": "chrome", "goog:loggingPrefs": {"browser": "ALL", "performance": "ALL"}}}}


class Browser:
    """A session of chromedriver."""

    def __init__(self, profile):
        self.driver = subprocess.Popen(["chromedriver", "--port=0"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                                       text=True)
        port = None
        for line in self.driver.stdout:
            found = re.search(r"on port (\d+)\.", line)
            if found:
                port = int(found.group(1))
                break
        assert port, "chromedriver does not start"
        self.connection = http.client.HTTPConnection("127.0.0.1", port, timeout=120)
        options = {"args": FLAGS + [f"--user-data-dir={profile}"]}
        SETTINGS["capabilities"]["alwaysMatch"]["goog:chromeOptions"] = options
        self.path = ""
        self.path = "/session/" + self.ask("POST", "/session", SETTINGS)["sessionId"]

    def ask(self, method, path, body=None):
        self.connection.request(method, self.path + path if self.path else path,
                                json.dumps(body) if body is not None else None, {"Content-Type": "application/json"})
        value = json.loads(self.connection.getresponse().read())["value"]
        if isinstance(value, dict) and "error" in value:
            raise RuntimeError(f"{path}: {value['error']}: {value['message'][:300]}")
        return value

    def open(self, page):
        self.log("browser")
        self.log("performance")
        self.ask("POST", "/url", {"url": page.as_uri()})

    def run(self, script, *arguments):
        return self.ask("POST", "/execute/sync", {"script": script, "args": list(arguments)})

    def cdp(self, command, **parameters):
        return self.ask("POST", "/goog/cdp/execute", {"cmd": command, "params": parameters})

    def log(self, kind):
        return self.ask("POST", "/se/log", {"type": kind})

    def press(self, element, keys):
        self.ask("POST", f"/element/{element}/value", {"text": keys})

    def click(self, element):
        self.ask("POST", f"/element/{element}/click", {})

    def find_all(self, selector):
        found = self.ask("POST", "/elements", {"using": "css selector", "value": selector})
        return [next(iter(e.values())) for e in found]

    def close(self):
        try:
            self.ask("DELETE", "")
        finally:
            self.driver.terminate()
            self.driver.wait()


def program(path, folder, *words, codes=(0,)):
    done = subprocess.run([path, *words], cwd=folder, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    assert done.returncode in codes, (words, done.returncode, done.stderr)


def make_reports(path, folder):
    """The pages to look at, of the demo's discs and of names that would like to be more than names."""
    program(path, folder, "demo", "museum")
    museum = folder / "museum"
    wicked = museum / "wicked"
    wicked.mkdir()
    names = ['<img src=x onerror="document.title=1">.cue', "&lt;b&gt; & 'quotes'.cue", "東方 Лампа مصباح.cue",
             "a" * 200 + ".cue", "=1+1.cue"]
    binary = (museum / "Kestrel Circuit (Disc 1).bin").read_bytes()
    sheet = (museum / "Kestrel Circuit (Disc 1).cue").read_text()
    for number, name in enumerate(names):
        (wicked / f"{number}.bin").write_bytes(binary[: 2352 * (100 + 20 * number)])
        (wicked / name).write_text(re.sub(r'"[^"]*"', f'"{number}.bin"', sheet, count=1))
    program(path, museum, "identify", *(f"wicked/{name}" for name in names), "--report", "several", codes=(0, 1))
    program(path, museum, "check", "scratched", "mended", "worn", "--report", "checked", codes=(1,))
    program(path, museum, "identify", "Moth & Lantern.cue", "--report", "single")
    program(path, museum, "dump", "sim:scratched.toml", "--out", "again/", "--report", "dumped", codes=(1,))
    program(path, museum, "shelf", "add", "merged", "mended", "dumps", "cartridges", "--at", "look.sqlite", codes=(0, 1))
    program(path, museum, "shelf", "list", "--at", "look.sqlite", "--report", "shelf")
    return [museum / name / "report.html" for name in ("several", "checked", "single", "dumped", "shelf")]


def expect_quiet(browser, page):
    """No error in the console, no request but for the page itself."""
    complaints = browser.log("browser")
    assert not complaints, complaints
    asked = []
    for entry in browser.log("performance"):
        message = json.loads(entry["message"])["message"]
        if message["method"] == "Network.requestWillBeSent":
            asked.append(message["params"]["request"]["url"])
    assert page.as_uri() in asked, "the log of requests is empty: nothing was looked at"
    for url in asked:
        # The browser's own pages, as that of printing, have parts of their own.
        assert url == page.as_uri() or url.startswith(("data:", "chrome://")), url


def column(browser, table, number):
    return browser.run("return Array.from(document.querySelectorAll('table.sorts')[arguments[0]].tBodies[0].rows)"
                       ".map(row => row.cells[arguments[1]].textContent)", table, number)


def value(text, number):
    return float(re.sub(r"[^0-9.-]", "", text) or "-inf") if number else text.lower()


def expect_sorting(browser):
    """The heads of every table sort, by a click and by a key, up and down, and lose no row."""
    tables = browser.run("return document.querySelectorAll('table.sorts').length")
    sorted_any = 0
    for table in range(tables):
        heads = browser.run("return Array.from(document.querySelectorAll('table.sorts')[arguments[0]].tHead.rows[0].cells)"
                            ".map(head => head.classList.contains('n'))", table)
        buttons = browser.run("return Array.from(document.querySelectorAll('table.sorts')[arguments[0]]"
                              ".querySelectorAll('th button'))", table)
        assert len(buttons) == len(heads)
        for number, is_number in enumerate(heads):
            if number >= 2 and is_number in heads[:number]:
                continue  # as one before it
            before = column(browser, table, number)
            button = next(iter(buttons[number].values()))
            browser.run("arguments[0].scrollIntoView({block: 'center', inline: 'center'})", buttons[number])
            browser.click(button)
            up = column(browser, table, number)
            assert sorted(before) == sorted(up), "rows are gone"
            keys = [value(text, is_number) for text in up]
            # Words are in the browser's own order: neighbours are held against each other there.
            if is_number:
                assert keys == sorted(keys), keys
            else:
                assert browser.run("return arguments[0].every((k, i, all) => i === 0 || all[i - 1].localeCompare(k) !== 1)", keys), keys
            state = "return arguments[0].closest('th').getAttribute('aria-sort')"
            assert browser.run(state, buttons[number]) == "ascending"
            browser.press(button, "\ue007")  # Enter
            assert browser.run(state, buttons[number]) == "descending"
            down = [value(text, is_number) for text in column(browser, table, number)]
            assert down == keys[::-1]
            sorted_any += len(set(keys)) > 1
    return sorted_any


def luminance(colour):
    parts = [int(n) / 255 for n in re.findall(r"\d+", colour)[:3]]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def expect_readable(browser, scheme):
    """Text stands out from its ground (WCAG 2.1, 1.4.3: 4.5 to 1) in this colour scheme."""
    browser.cdp("Emulation.setEmulatedMedia", features=[{"name": "prefers-color-scheme", "value": scheme}])
    ground = browser.run("return getComputedStyle(document.body).backgroundColor")
    light = luminance(ground) > 0.5
    assert light == (scheme == "light"), (scheme, ground)
    for selector in ["body", "h1", "h2", "caption", "th", "td", "figcaption", ".made", "mark"]:
        for ink in browser.run("return Array.from(document.querySelectorAll(arguments[0]), e => getComputedStyle(e).color)", selector):
            high, low = sorted([luminance(ink), luminance(ground)], reverse=True)
            assert (high + 0.05) / (low + 0.05) >= 4.5, (scheme, selector, ink, ground)
    picture = base64.b64decode(browser.ask("GET", "/screenshot"))
    assert picture[:8] == b"\x89PNG\r\n\x1a\n" and len(picture) > 10000
    return picture


def expect_layout(browser):
    """In a window of 1280 by 800 nothing but tables and figures scrolls sideways; names are named for screen readers."""
    assert browser.run("return document.documentElement.scrollWidth - document.documentElement.clientWidth") == 0
    assert browser.run("return document.querySelectorAll('h1').length") == 1
    assert browser.run("return Array.from(document.querySelectorAll('svg')).every(s => s.getAttribute('aria-label'))")
    assert browser.run("return Array.from(document.querySelectorAll('svg')).every(s => s.getBoundingClientRect().height)")
    assert browser.run("return document.images.length") == 0


def expect_print(browser):
    """As a PDF: several pages at most one of which could be empty, and black on white whatever the screen has."""
    browser.cdp("Emulation.setEmulatedMedia", media="print", features=[{"name": "prefers-color-scheme", "value": "dark"}])
    assert luminance(browser.run("return getComputedStyle(document.querySelector('th, td')).color")) < 0.1
    browser.cdp("Emulation.setEmulatedMedia", media="", features=[])
    pdf = base64.b64decode(browser.ask("POST", "/print", {"background": True}))
    assert pdf.startswith(b"%PDF-") and b"/Type /Page" in pdf and len(pdf) > 10000, len(pdf)


def main():
    path = os.path.realpath(sys.argv[1])
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        pages = make_reports(path, pathlib.Path(folder))
        browser = Browser(pathlib.Path(folder) / "profile")
        try:
            sorted_any = 0
            for page in pages:
                browser.open(page)
                assert browser.run("return document.title") not in ("1", ""), page
                expect_layout(browser)
                light, dark = expect_readable(browser, "light"), expect_readable(browser, "dark")
                assert light != dark
                expect_print(browser)
                sorted_any += expect_sorting(browser)
                expect_quiet(browser, page)
            assert sorted_any > 10, "hardly any column had anything to sort"
        finally:
            browser.close()
    print(f"{len(pages)} pages")


if __name__ == "__main__":
    main()
