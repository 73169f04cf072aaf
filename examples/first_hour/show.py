"""Runs the first hour and writes docs/first-hour.md: every command with what it prints.

python examples/first_hour/show.py            # the page, to standard output
"""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path

from click.testing import CliRunner

from plainstep.cli.main import cli

HERE = Path(__file__).parent


def page() -> str:
    """The text of docs/first-hour.md."""
    text = (HERE / "page.md").read_text(encoding="utf-8")
    text = re.sub(r"^@(\S+)$", lambda found: (HERE / found[1]).read_text(encoding="utf-8").rstrip(), text, flags=re.M)
    with tempfile.TemporaryDirectory() as place, contextlib.chdir(place):
        for name in ("register.sql", "rollup.toml"):
            Path(name).write_text((HERE / name).read_text(encoding="utf-8"), encoding="utf-8")
        return re.sub(r"```(console|toml)\n(.*?)```", _shown, text, flags=re.S)


def _shown(block: re.Match[str]) -> str:
    """A block of commands with what each prints; one of settings is appended to the configuration."""
    if block[1] == "toml":
        with Path("plainstep.toml").open("a", encoding="utf-8") as config:
            config.write("\n" + block[2])
        return block[0]
    told = "\n".join(f"{line}\n{_run(line.removeprefix('$ '))}".rstrip() for line in block[2].splitlines())
    return f"```console\n{told}\n```"


def _run(line: str) -> str:
    """What a command prints, to standard output and then to the other one, without times."""
    if line.startswith("plainstep "):
        done = CliRunner().invoke(cli, shlex.split(line)[1:], env={"TZ": "UTC"})
        text = done.stdout + done.stderr
    else:
        text = subprocess.run(line, shell=True, capture_output=True, text=True, env=os.environ, check=True).stdout
    return _timeless(text)


def _timeless(text: str) -> str:
    text = re.sub(r"; \d+\.\d\d s$", "", text.rstrip(), flags=re.M)
    text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d \w+", "2026-05-04 09:30:00 UTC", text)
    return re.sub(r"  \d+ s  ", "  0 s  ", text)


if __name__ == "__main__":
    sys.stdout.write(page())
