"""What a step of each of many loads between two SQLite files costs a load, as there are more of them; beside a script by hand.

The script keeps one connection to each file, asks for its mark and for the last change of each table, and merges the rows of those that
have changed. It knows nothing of settings, captures or tables that are others than before.
"""

from __future__ import annotations

import sqlite3
import tempfile
from functools import partial
from pathlib import Path

import plainstep
from benchmarks import in_pairs, row

ROWS = 20
# The name under which capture keeps the changes of a table.
CHANGES = "plainstep_changes_{}"


def built(folder: Path, loads: int) -> plainstep.Project:
    """So many captured tables, each with a load that has begun."""
    settings = ['[stores.town]\nurl = "sqlite:///town.db"\n[stores.house]\nurl = "sqlite:///house.db"\n']
    with sqlite3.connect(folder / "town.db") as town:
        for number in range(loads):
            town.execute(f"CREATE TABLE ward{number} (tree_id INTEGER PRIMARY KEY, species TEXT, height_m REAL)")
            rows = [(key, "rowan", key / 2) for key in range(ROWS)]
            town.executemany(f"INSERT INTO ward{number} VALUES (?, ?, ?)", rows)
            settings.append(f'[loads.ward{number}]\nfrom = "town.ward{number}"\ninto = "house.ward{number}"\n')
    (folder / "plainstep.toml").write_text("".join(settings))
    project = plainstep.load_project(folder / "plainstep.toml")
    for number in range(loads):
        project.capture_on(f"town.ward{number}")
    project.step()
    return project


def by_hand(folder: Path, loads: int) -> None:
    """The same step without us."""
    town, hand = sqlite3.connect(folder / "town.db"), sqlite3.connect(folder / "hand.db")
    hand.execute("CREATE TABLE IF NOT EXISTS marks (name TEXT PRIMARY KEY, mark INTEGER)")
    for number in range(loads):
        name = f"ward{number}"
        mark = hand.execute("SELECT mark FROM marks WHERE name = ?", [name]).fetchone() or (0,)
        [head] = town.execute(f"SELECT max(seq) FROM {CHANGES.format(name)}").fetchone()
        if mark[0] >= (head or 0):
            continue
        hand.execute(f"CREATE TABLE IF NOT EXISTS {name} (tree_id INTEGER PRIMARY KEY, species TEXT, height_m REAL)")
        rows = town.execute(
            f'SELECT "now.tree_id", "now.species", "now.height_m" FROM {CHANGES.format(name)} WHERE seq > ? ORDER BY seq',
            mark,
        ).fetchall()
        hand.executemany(f"INSERT OR REPLACE INTO {name} VALUES (?, ?, ?)", rows)
        hand.execute("INSERT OR REPLACE INTO marks VALUES (?, ?)", [name, head])
        hand.commit()
    town.close()
    hand.close()


def changed(folder: Path, loads: int, turn: int) -> None:
    """A change of each table."""
    with sqlite3.connect(folder / "town.db") as town:
        for number in range(loads):
            town.execute(f"UPDATE ward{number} SET height_m = height_m + 1 WHERE tree_id = 3")


def main() -> None:
    print("\nmany loads between two SQLite files: a load (medians of 3)\n")
    row("", "Plain Step", "by hand", "ratio")
    for loads in (10, 50, 200):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            project, hand = built(folder, loads), partial(by_hand, folder, loads)
            hand()
            nothing = in_pairs(3, project.step, hand)
            one = in_pairs(3, project.step, hand, partial(changed, folder, loads))
        for what, (ours, theirs, ratio) in (("nothing to do", nothing), ("one change each", one)):
            row(f"{loads} loads, {what}", *(f"{took / loads * 1000:.2f} ms" for took in (ours, theirs)), f"{ratio:.1f}")


if __name__ == "__main__":
    main()
