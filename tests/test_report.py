"""The report, as a browser shows it: everything is there, nothing is fetched, and no value becomes markup."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import tempfile
import time
import unittest
import urllib.error
import urllib.request
from html import unescape
from pathlib import Path
from typing import Any

from tests.feed_town import run
from tests.landing import Landing
from tests.support import TREE, Town

QUIET = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--hide-scrollbars",
    "--virtual-time-budget=2000",
]
NASTY = "<img src=x onerror=alert(1)>&\"'</td>"


def browser() -> str:
    """Chromium.

    Raises:
        unittest.SkipTest: it is not installed.
    """
    found = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
    if found:
        return found
    told = "Chromium is not installed: apt-get install chromium"
    if os.environ.get("CI"):
        raise RuntimeError(told)
    raise unittest.SkipTest(told)


def shown(page: Path, *words: str) -> str:
    """What a browser makes of a page."""
    return browsed(page.as_uri(), *words)


def browsed(url: str, *words: str) -> str:
    """What a browser makes of what is at a URL."""
    with tempfile.TemporaryDirectory() as profile:
        command = [browser(), *QUIET, f"--user-data-dir={profile}", *words, url]
        return subprocess.run(command, capture_output=True, text=True, timeout=120, check=True).stdout


class Pages(unittest.TestCase):
    def test_the_page(self) -> None:
        with Town(TREE, loads='[loads."a & <b>"]\nfrom = "town.nothing"\ninto = "shed.nothing"\n') as town:
            town.run("capture", "on", "town.tree")
            town.project.step("house", "shed")
            for number in range(4):
                town.sql(f"INSERT INTO tree VALUES ({number}, {number}, '{NASTY.replace(chr(39), chr(39) * 2)}')")
                town.sql("UPDATE tree SET a = a + 10", "DELETE FROM tree WHERE k = 1")
                town.project.step("house")
            shown_in_notebooks: list[Any] = [
                town.project.look("house", "start"), town.project.net("house", "start"), *town.project.check("house"),
                *town.project.status("house"), *town.project.step("house"),
            ]  # fmt: skip
            for one in shown_in_notebooks:
                html = one._repr_html_()
                self.assertNotIn("\n", repr(one))
                self.assertIn("<table>", html)
                self.assertNotIn("<img", html)
            before = town.fingerprint()
            self.assertEqual(town.run("report", "-o", str(town.path / "out.html")).exit_code, 0)
            page = town.path / "out.html"
            text = page.read_text(encoding="utf-8")
            found = shown(page, "--dump-dom", "--window-size=390,844")
            seen = unescape(re.sub(r"<[^>]+>", " ", found))
            self.assertEqual(found.count("<figure>"), 5)
            self.assertEqual(found.count("<section>"), 3)
            self.assertNotIn("<img", found)
            self.assertIn(NASTY, seen)
            self.assertIn("a & <b>", seen)
            self.assertIn("refuses", seen)
            for word in ("Lag: age of the oldest change", "reading and collapsing", "Latest changes", "behind"):
                self.assertIn(word, seen)
            self.assertNotRegex(re.sub(r'xmlns(:xlink)?="[^"]*"|<!DOCTYPE[^>]*>', "", text), r'(src|href)="(?!#)')
            pdf = town.path / "page.pdf"
            shown(page, f"--print-to-pdf={pdf}")
            self.assertTrue(pdf.read_bytes().startswith(b"%PDF"))
            for made in (page, pdf):
                made.unlink()
            self.assertEqual(town.fingerprint(), before)

    def test_a_feed_that_is_empty_and_whose_rows_told_no_time(self) -> None:
        with Landing(layout='bookkeeping = ["seq"]\nmissing_field = "null"') as town:
            for number in range(2):
                file = town.land(f"{number}.jsonl", (number, number, 1))
                self.assertEqual(town.step(), "stepped 1 ")
                file.unlink()
            self.assertIn("or files told that are gone", " ".join(town.project.status()[0].limitations))
            page = town.path / "page.html"
            done = run(town, "report", "-o", str(page))
            self.assertEqual(done.exit_code, 0, done.output)
            text = page.read_text(encoding="utf-8")
        self.assertEqual(text.count("<figure>"), 3)
        self.assertNotIn("There is no file", text)
        self.assertNotIn("Lag: age", text)


class Live(unittest.TestCase):
    """The page that stays up: current, read only, for this machine alone, and no secret on it."""

    def asked(self, url: str, path: str = "", **headers: str) -> tuple[int, str, Any]:
        request = urllib.request.Request(url + path, headers=headers, method=headers.pop("method", "GET"))
        try:
            with urllib.request.urlopen(request, timeout=30) as answer:
                return answer.status, answer.read().decode(), answer.headers
        except urllib.error.HTTPError as error:
            return error.code, error.read().decode(), error.headers

    def test_it_tells_what_is_so_now(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            words = "from plainstep.export import live; live.FRESH = 0.0; from plainstep.cli.main import cli; "
            child = town.child(f"{words} cli(['run', '--every', '0.2s', '--listen', '0'])")
            assert child.stdout
            url = re.search(r"http://127\.0\.0\.1:\d+/", child.stdout.readline())
            assert url
            try:
                town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                until = time.monotonic() + 30
                while "1" not in [str(one["step"]) for one in json.loads(self.asked(url[0], "ledger.json")[1])]:
                    self.assertLess(time.monotonic(), until)
                status, page, headers = self.asked(url[0])
                self.assertEqual(
                    (status, headers["X-Frame-Options"], headers["Cache-Control"]), (200, "DENY", "no-store")
                )
                for width in (1280, 390):
                    seen = unescape(
                        re.sub(r"<[^>]+>", " ", browsed(url[0], "--dump-dom", f"--window-size={width},844"))
                    )
                    self.assertIn("2 loads: ", seen)
                self.assertNotIn(str(town.path), page)
                self.assertEqual(self.asked(url[0], "health")[:2], (200, "ok\n"))
                self.assertTrue(self.asked(url[0], "metrics")[1].endswith("# EOF\n"))
                self.assertEqual(
                    {one["load"] for one in json.loads(self.asked(url[0], "status.json")[1])}, {"house", "shed"}
                )
                self.assertEqual(self.asked(url[0], "../plainstep.toml")[0], 404)
                self.assertEqual(self.asked(url[0], method="POST")[0], 501)
                self.assertEqual(self.asked(url[0], Host="evil.example")[0], 421)
                self.assertEqual(self.asked(url[0], method="HEAD")[1], "")
                town.project.capture_off("town.tree", really=True)
                status, told, _ = self.asked(url[0], "health")
                self.assertEqual((status, "house: refuses: Capture is off" in told), (503, True))
                other = town.run("run", "--listen", url[0].split(":")[2].rstrip("/"))
                self.assertEqual((other.exit_code, "Cannot listen" in other.stderr), (1, True))
            finally:
                child.terminate()
                child.communicate(timeout=240)
            self.assertEqual(child.returncode, 0)
            self.assertEqual(town.run("run", "--listen", "here").exit_code, 2)
