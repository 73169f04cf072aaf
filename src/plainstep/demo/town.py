"""The register of street trees of Larkmoor: a town that does not exist, and what happened there in two days."""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing
from datetime import date, datetime, timedelta
from pathlib import Path

CONFIG = """\
# Larkmoor's register of street trees, and the warehouse that follows it.

[stores.town]
url = "sqlite:///town.db"

[stores.house]
url = "duckdb:///house.duckdb"

[loads.ward]
from = "town.ward"
into = "house.ward"

[loads.tree]
from = "town.tree"
into = "house.tree"
key = ["tree_id"]

[loads.inspection]
from = "town.inspection"
into = "house.inspection"
"""

# The same changes, as something else than a copy.
SHAPES = """
[stores.archive]
url = "file:///archive"

[loads.tree_history]
from = "town.tree"
into = "house.tree_history"
shape = "history"
watch = ["status", "height_m"]

[loads.ward_trees]
from = "town.tree"
into = "house.ward_trees"
shape = "rollup"
by = ["ward_id"]
measures = { trees = "count(*)", mean_height = "avg(height_m)", tallest = "max(height_m)" }

[loads.condemned]
from = "town.tree"
into = "house.condemned"
shape = "events"
first = "head"
rules = { condemned = "was.status <> 'condemned' and now.status = 'condemned'" }
deliver = "file:///messages"

[loads.tree_archive]
from = "town.tree"
into = "archive.tree"
shape = "journal"
first = "head"
format = "csv"
partition = ["date"]
"""

TABLES = """
CREATE TABLE ward (
    ward_id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE
);
CREATE TABLE tree (
    tree_id INTEGER PRIMARY KEY,
    ward_id INTEGER NOT NULL REFERENCES ward,
    species TEXT NOT NULL,
    planted DATE,
    height_m REAL,
    girth_cm INTEGER,
    status TEXT NOT NULL
);
CREATE TABLE inspection (
    inspection_id INTEGER PRIMARY KEY,
    tree_id INTEGER NOT NULL REFERENCES tree ON DELETE CASCADE ON UPDATE CASCADE,
    inspected_at DATETIME NOT NULL,
    verdict TEXT NOT NULL,
    cost DECIMAL(8,2)
);
"""

WARDS = ["Applecross", "Brackenhill", "Coldwell", "Dunmere", "Eastgate"]
SPECIES = [
    "field maple",
    "hornbeam",
    "small-leaved lime",
    "rowan",
    "silver birch",
    "sessile oak",
    "wild cherry",
]
VERDICTS = ["sound", "sound", "sound", "watch", "prune"]

# What the town does, a statement each, with what it is.
MONDAY = [
    ("three young trees are planted in Coldwell",
     "INSERT INTO tree VALUES (241, 3, 'rowan', '2026-03-02', 1.8, 9, 'young'), "
     "(242, 3, 'rowan', '2026-03-02', 1.7, 9, 'young'), (243, 3, 'hornbeam', '2026-03-02', 2.1, 11, 'young')"),
    ("tree 17 is measured, and measured again, and once more",
     "UPDATE tree SET height_m = 11.9 WHERE tree_id = 17"),
    ("", "UPDATE tree SET height_m = 12.4 WHERE tree_id = 17"),
    ("", "UPDATE tree SET height_m = 12.1, girth_cm = 96 WHERE tree_id = 17"),
    ("a tree is entered by mistake and taken out again",
     "INSERT INTO tree VALUES (300, 1, 'wild cherry', NULL, NULL, NULL, 'young')"),
    ("", "DELETE FROM tree WHERE tree_id = 300"),
    ("tree 58 had the wrong number: it is 258 (its inspections follow)",
     "UPDATE tree SET tree_id = 258 WHERE tree_id = 58"),
    ("tree 101 is felled (and its inspections go with it)", "DELETE FROM tree WHERE tree_id = 101"),
    ("two trees are pruned", "UPDATE tree SET status = 'pruned' WHERE tree_id IN (6, 9)"),
    ("one is set back the same day", "UPDATE tree SET status = 'mature' WHERE tree_id = 9"),
]  # fmt: skip

TUESDAY = [
    ("tree 42 is inspected and condemned",
     "INSERT INTO inspection VALUES (1001, 42, '2026-03-03 10:15:00', 'fell', 85.50)"),
    ("", "UPDATE tree SET status = 'condemned' WHERE tree_id = 42"),
    ("the surveyor's upload replaces two rows whole (SQLite removes the old ones first: tree 90's inspections go too)",
     "INSERT OR REPLACE INTO tree VALUES (241, 3, 'rowan', '2026-03-02', 1.9, 9, 'young'), "
     "(90, 5, 'field maple', '1972-03-10', 21.2, 141, 'mature')"),
]  # fmt: skip

WEDNESDAY = [
    ("tree 17 is condemned, and felled in the afternoon", "UPDATE tree SET status = 'condemned' WHERE tree_id = 17"),
    ("", "UPDATE tree SET status = 'felled', height_m = 0.4 WHERE tree_id = 17"),
    ("trees 42 and 102 leave the register", "DELETE FROM tree WHERE tree_id IN (42, 102)"),
]  # fmt: skip
THURSDAY = [
    ("tree 7 is measured again", "UPDATE tree SET height_m = height_m + 0.2, girth_cm = girth_cm + 1 WHERE tree_id = 7")
]


def build(folder: Path) -> None:
    """Make the town's database and its plainstep.toml."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "plainstep.toml").write_text(CONFIG, encoding="utf-8")
    with closing(sqlite3.connect(folder / "town.db")) as connection:
        connection.executescript(TABLES)
        connection.executemany("INSERT INTO ward VALUES (?, ?)", enumerate(WARDS, 1))
        connection.executemany("INSERT INTO tree VALUES (?, ?, ?, ?, ?, ?, ?)", trees(240))
        connection.executemany("INSERT INTO inspection VALUES (?, ?, ?, ?, ?)", inspections(1000, 240))
        connection.commit()


def trees(count: int) -> list[tuple[int, int, str, str, float, int, str]]:
    """Made-up trees, the same each time."""
    chance = random.Random(1)
    found = []
    for number in range(1, count + 1):
        planted = date(1970, 1, 1) + timedelta(days=chance.randrange(20000))
        age = (date(2026, 3, 1) - planted).days / 365
        height = round(min(1.5 + age * chance.uniform(0.2, 0.4), 24.0), 1)
        girth = round(8 + age * chance.uniform(1.5, 2.5))
        status = "young" if age < 5 else "mature"
        found.append(
            (
                number,
                chance.randrange(1, 6),
                chance.choice(SPECIES),
                planted.isoformat(),
                height,
                girth,
                status,
            )
        )
    return found


def inspections(count: int, tree_count: int) -> list[tuple[int, int, str, str, float]]:
    """Made-up inspections of those trees."""
    chance = random.Random(2)
    found = []
    for number in range(1, count + 1):
        when = datetime(2023, 1, 9, 8) + timedelta(days=chance.randrange(1100), minutes=15 * chance.randrange(36))
        cost = chance.randrange(2000, 9000, 25) / 100
        found.append((number, chance.randrange(1, tree_count + 1), str(when), chance.choice(VERDICTS), cost))
    return found


def work(folder: Path, day: list[tuple[str, str]]) -> None:
    """Do a day's work in the register."""
    with closing(sqlite3.connect(folder / "town.db")) as connection:
        connection.execute("PRAGMA foreign_keys = ON")
        for _, statement in day:
            connection.execute(statement)
        connection.commit()
