"""The report, as a browser shows it: everything is there, nothing is fetched, and no value becomes markup."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
import unittest
from html import unescape
from pathlib import Path
from typing import Any

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
    with tempfile.TemporaryDirectory() as profile:
        command = [browser(), *QUIET, f"--user-data-dir={profile}", *words, page.as_uri()]
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
