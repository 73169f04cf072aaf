"""Runs the pages whose commands are shown with what they print.

python examples/pages/show.py                     # docs/first-hour.md, to standard output
python examples/pages/show.py docs/how-to/*.md    # these pages, anew, each in its place
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
from plainstep.demo import town

HERE = Path(__file__).parent


def first_hour() -> str:
    """The text of docs/first-hour.md."""
    text = (HERE / "page.md").read_text(encoding="utf-8")
    text = re.sub(r"^@(\S+)$", lambda found: (HERE / found[1]).read_text(encoding="utf-8").rstrip(), text, flags=re.M)
    with tempfile.TemporaryDirectory() as place, contextlib.chdir(place):
        for name in ("register.sql", "rollup.toml"):
            Path(name).write_text((HERE / name).read_text(encoding="utf-8"), encoding="utf-8")
        return _run_anew(text)


def how_to(text: str) -> str:
    """The text of a page of docs/how-to, its commands run anew where everything is loaded once."""
    with tempfile.TemporaryDirectory() as place, contextlib.chdir(place):
        town.build(Path())
        for line in ("plainstep capture on --all", "plainstep step"):
            _run(line)
        return _run_anew(text)


def _run_anew(text: str) -> str:
    return re.sub(r"```(console|toml)\n(.*?)```", _shown, text, flags=re.S)


def _shown(block: re.Match[str]) -> str:
    """A block of commands with what each prints; one of settings is appended to the configuration."""
    if block[1] == "toml":
        with Path("plainstep.toml").open("a", encoding="utf-8") as config:
            config.write("\n" + block[2])
        return block[0]
    lines = [line for line in block[2].splitlines() if line.startswith("$ ")]
    told = "\n".join(f"{line}\n{_run(line.removeprefix('$ '))}".rstrip() for line in lines)
    return f"```console\n{told}\n```"


def _run(line: str) -> str:
    """What a command prints, to standard output and then to the other one, without times."""
    if line.startswith("plainstep ") and not re.search(r"[;|&>]", line):
        done = CliRunner().invoke(cli, shlex.split(line)[1:], env={"TZ": "UTC"})
        text = done.stdout + done.stderr
    else:
        path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
        env = os.environ | {"PATH": path, "TZ": "UTC"}
        done = subprocess.run(line, shell=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=env)
        text = done.stdout
    return _timeless(text)


def _timeless(text: str) -> str:
    text = re.sub(r"; \d+\.\d\d s$", "", text.rstrip(), flags=re.M)
    text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d (\w+)", r"2026-05-04 09:30:00 \1", text)
    text = re.sub(r"date=20\d\d-\d\d-\d\d", "date=2026-05-04", text)
    text = re.sub(r'(_seconds"?[ :]+)\d[\d.e-]*|(seconds\{.*?\}) [\d.e+-]+', r"\1\g<2>0.1", text)
    return re.sub(r"  \d+ s  ", "  0 s  ", text)


if __name__ == "__main__":
    if not sys.argv[1:]:
        sys.stdout.write(first_hour())
    for page in map(Path, sys.argv[1:]):
        page.write_text(how_to(page.read_text(encoding="utf-8")), encoding="utf-8")
