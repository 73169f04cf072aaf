"""A folder of many small files: its first step, and one with nothing to do, beside a script by hand.

The script lists the folder, parses what it has not seen line by line, keeps the last change of each key, and merges these in one
transaction together with the names that it has seen. It knows nothing of files that were changed, copied, or came late.
"""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

import duckdb
import pyarrow as pa

import plainstep
from benchmarks import best_of, row, seconds

FILES = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
ROWS, TREES = 3, 500
LAYOUT = 'operation = "op"\ninsert = ["insert"]\nupdate = ["update"]\n'


def land(folder: Path, files: range) -> None:
    """Files of some lines each."""
    for file in files:
        lines = []
        for change in range(file * ROWS, (file + 1) * ROWS):
            op = "insert" if change < TREES else "update"
            lines.append(json.dumps({"op": op, "seq": change, "tree_id": change % TREES, "girth_cm": change}) + "\n")
        (folder / f"{file:06}.jsonl").write_text("".join(lines))


def by_hand(folder: Path, target: Path) -> None:
    """The same for who trusts every file."""
    with duckdb.connect(str(target)) as house:
        house.execute("CREATE TABLE IF NOT EXISTS tree (tree_id BIGINT PRIMARY KEY, girth_cm BIGINT)")
        house.execute("CREATE TABLE IF NOT EXISTS seen (name VARCHAR)")
        seen = {name for (name,) in house.execute("SELECT name FROM seen").fetchall()}
        fresh = sorted(path.name for path in folder.iterdir() if path.name not in seen)
        if not fresh:
            return
        last = {}
        for name in fresh:
            for line in (folder / name).read_text().splitlines():
                change = json.loads(line)
                last[change["tree_id"]] = change
        kept = pa.Table.from_pylist([*last.values()]).select(["tree_id", "girth_cm"])
        names = pa.table({"name": fresh})
        house.register("kept", kept)
        house.register("names", names)
        house.execute("BEGIN")
        house.execute("INSERT OR REPLACE INTO tree SELECT * FROM kept")
        house.execute("INSERT INTO seen SELECT * FROM names")
        house.execute("COMMIT")


def main() -> None:
    print(f"\n{FILES:,} files of {ROWS} lines, into DuckDB (nothing to do: best of 3)\n")
    row("", "Plain Step", "by hand", "ratio", widths=(44, 14, 14, 14))
    for words, position in (("in the order of names", ""), ("in the order of a column", 'position = ["seq"]\n')):
        with tempfile.TemporaryDirectory() as place:
            measured(words, position, Path(place))


def measured(words: str, position: str, folder: Path) -> None:
    """Print two lines."""
    (folder / "landing").mkdir()
    land(folder / "landing", range(FILES))
    (folder / "plainstep.toml").write_text(
        '[stores.landing]\nurl = "file:///landing"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'
        f'[loads.tree]\nfrom = "landing.*.jsonl"\ninto = "house.tree"\nkey = ["tree_id"]\n[loads.tree.layout]\n{position}{LAYOUT}'
    )
    project = plainstep.load_project(folder / "plainstep.toml")
    for what, runs in (("first step", 1), ("nothing to do", 3)):
        ours, hand = best_of(
            runs, lambda: project.step("tree"), lambda: by_hand(folder / "landing", folder / "hand.duckdb")
        )
        row(f"{words}, {what}", seconds(ours), seconds(hand), f"{ours / hand:.2f}", widths=(44, 14, 14, 14))
    with duckdb.connect(str(folder / "hand.duckdb")) as house:
        expected = house.execute("SELECT tree_id, girth_cm FROM tree ORDER BY 1").fetchall()
    with duckdb.connect(str(folder / "house.duckdb"), read_only=True) as house:
        assert house.execute("SELECT tree_id, girth_cm FROM tree ORDER BY 1").fetchall() == expected


if __name__ == "__main__":
    main()
