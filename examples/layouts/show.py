"""Runs every example of a layout and writes docs/layouts.md: what its feed looks like, the layout, what comes out.

python examples/layouts/show.py            # the whole page, to standard output
python examples/layouts/show.py csv        # one example
"""

from __future__ import annotations

import contextlib
import re
import shutil
import sqlite3
import sys
import tempfile
from pathlib import Path

from click.testing import CliRunner

from plainstep.cli.main import cli

HERE = Path(__file__).parent
# In the order in which they are shown.
NAMES = [
    "two_rows", "any_order", "old_and_new_columns", "by_images", "new_values", "puts", "some_fields", "keys_only", "documents", "patches", "several_records", "partitions",
    "latest_state", "periods",
    "growing_column", "differences", "json_lines", "csv", "parquet", "avro", "quarantined",
]  # fmt: skip
INTRODUCTION = HERE / "introduction.md"


def page(*names: str) -> str:
    """The text of docs/layouts.md, or of a part of it."""
    parts = [] if names else [INTRODUCTION.read_text(encoding="utf-8").rstrip()]
    return "\n\n".join(parts + [example(name) for name in names or NAMES]) + "\n"


def example(name: str) -> str:
    """One example, run in a folder of its own."""
    title, _, about = (HERE / name / "about.md").read_text(encoding="utf-8").strip().partition("\n\n")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / name
        shutil.copytree(HERE / name, folder)
        text = [f"## {title.removeprefix('# ')}", about, *_feed(folder), _code("toml", _layout(folder))]
        text.append(_code("console", _session(folder, name)))
    return "\n\n".join(text)


def _feed(folder: Path) -> list[str]:
    """What the feed looks like."""
    shown = [
        _code("sql", (folder / file).read_text(encoding="utf-8")) for file in ("feed.sql",) if (folder / file).exists()
    ]
    for file in sorted(folder.glob("landing/**/*.*")):
        if file.suffix in (".jsonl", ".csv"):
            shown.append(
                f"`{file.relative_to(folder).as_posix()}`\n\n" + _code("text", file.read_text(encoding="utf-8"))
            )
    if (folder / "feed.sql").exists():
        _run(folder, "feed.sql")
    return shown


def _layout(folder: Path) -> str:
    """What is said of the load; the stores are the same everywhere."""
    text = (folder / "plainstep.toml").read_text(encoding="utf-8")
    return text[text.index("[loads") :]


def _session(folder: Path, name: str) -> str:
    """The commands that show it, and what they print."""
    commands = ["look tree", "step"]
    if (folder / "later.sql").exists():
        commands = ["step", "later.sql", "look tree", "step"]
    commands += ["quarantine tree"] if name == "quarantined" else []
    lines = []
    for words in [*commands, "step"]:
        if words == "later.sql":
            lines.append(f"$ sqlite3 town.db < later.sql    # {' '.join(_run(folder, words).split())}")
            continue
        with contextlib.chdir(folder):
            done = CliRunner().invoke(cli, words.split())
        lines.append(f"$ plainstep {words}\n" + _timeless(done.stdout))
    lines.append("$ duckdb house.duckdb 'FROM tree'\n" + _rows(folder))
    return "\n".join(lines)


def _run(folder: Path, file: str) -> str:
    script = (folder / file).read_text(encoding="utf-8")
    connection = sqlite3.connect(folder / "town.db")
    connection.executescript(script)
    connection.close()
    return re.sub(r"--.*", "", script)


def _timeless(text: str) -> str:
    return re.sub(r"; \d+\.\d\d s$", "", text.rstrip(), flags=re.M)


def _rows(folder: Path) -> str:
    import duckdb

    with duckdb.connect(str(folder / "house.duckdb"), read_only=True) as house:
        found = house.execute("FROM tree ORDER BY ALL")
        heads = [column[0] for column in found.description]
        cells = [heads] + [["null" if cell is None else str(cell) for cell in row] for row in found.fetchall()]
    widths = [max(len(row[place]) for row in cells) for place in range(len(heads))]
    return "\n".join(
        "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in cells
    )


def _code(kind: str, text: str) -> str:
    return f"```{kind}\n{text.rstrip()}\n```"


if __name__ == "__main__":
    sys.stdout.write(page(*sys.argv[1:]))
