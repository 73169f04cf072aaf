"""Delta and Iceberg tables: merging into one beside copy-on-write by hand, small steps one after the other, and reading versions."""

from __future__ import annotations

import random
import shutil
import sqlite3
import sys
import tempfile
import time
import uuid
from collections.abc import Callable
from contextlib import closing
from itertools import chain
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from deltalake import CommitProperties, DeltaTable, Transaction, write_deltalake
from deltalake.transaction import AddAction, RemoveAction
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.io.pyarrow import _dataframe_to_data_files

import plainstep
from benchmarks import row, seconds

CONFIG = """[stores.town]
url = "sqlite:///town.db"
[stores.lake]
url = "{url}"
[stores.house]
url = "duckdb:///house.duckdb"
[loads.tree]
from = "town.tree"
into = "lake.{table}"
[loads.back]
from = "lake.{table}"
into = "house.tree"
changes = "versions"
key = ["tree_id"]
"""
COLUMNS = "tree_id INTEGER PRIMARY KEY, ward INTEGER, species TEXT, height_m REAL, girth_cm INTEGER, planted TEXT, status TEXT"
ROUNDS = 4


class Place:
    """A town with a register of so many trees, and a lake beside it."""

    def __init__(self, count: int, url: str = "delta:///lake", table: str = "tree") -> None:
        self.path, self.count, self.chance = Path(tempfile.mkdtemp(prefix="plainstep-lake-")), count, random.Random(3)
        with closing(sqlite3.connect(self.path / "town.db", isolation_level=None)) as town:
            town.execute(f"CREATE TABLE tree ({COLUMNS})")
            town.execute("BEGIN")
            rows = (
                (key, key % 40, f"species {key % 90}", key % 300 / 10, key % 250, "2020-01-02", "standing")
                for key in range(count)
            )
            town.executemany("INSERT INTO tree VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
            town.execute("COMMIT")
        (self.path / "plainstep.toml").write_text(CONFIG.format(url=url, table=table))
        self.project = plainstep.load_project(self.path / "plainstep.toml")
        self.project.capture_on("town.tree")
        self.project.step("tree")

    def grow(self, share: float) -> list[int]:
        """Trees grow, here and there; their numbers."""
        keys = self.chance.sample(range(self.count), max(1, round(self.count * share)))
        with closing(sqlite3.connect(self.path / "town.db", isolation_level=None)) as town:
            town.execute("BEGIN")
            town.executemany("UPDATE tree SET girth_cm = girth_cm + 1 WHERE tree_id = ?", [(key,) for key in keys])
            town.execute("COMMIT")
        return keys

    def merged(self) -> float:
        """A step: how long it took to merge what was read and collapsed."""
        [outcome] = self.project.step("tree")
        assert outcome.entry is not None
        return outcome.entry.seconds - outcome.entry.read_seconds

    def written(self) -> int:
        """Bytes of all files that were ever written here: those that no version needs any more are there yet."""
        return sum(one.stat().st_size for one in self.path.rglob("*") if one.is_file() and one.suffix != ".db")


def by_hand(path: Path, new: pa.Table, step: int) -> float:
    """The best copy-on-write that a script does: files that hold a key are read, filtered and written anew, in one commit."""
    began = time.perf_counter()
    table = DeltaTable(str(path))
    adds, removes, left = [], [], new
    for one in _actions(table):
        rows = pq.read_table(path / one["path"])
        there = pc.is_in(rows["tree_id"], value_set=new["tree_id"].combine_chunks())
        if not pc.any(there).as_py():
            continue
        left = pa.concat_tables([rows.filter(pc.invert(there)), left])
        removes.append(RemoveAction(one["path"], True, int(time.time() * 1000), one["size_bytes"], {}))
    name = f"{uuid.uuid4()}.parquet"
    pq.write_table(left, path / name, compression="zstd")
    adds.append(
        AddAction(
            name, (path / name).stat().st_size, {}, int(time.time() * 1000), True, f'{{"numRecords": {left.num_rows}}}'
        )
    )
    properties = CommitProperties(app_transactions=[Transaction("by-hand", step)], max_commit_retries=0)
    table.create_write_transaction(
        [*adds, *removes], mode="append", schema=table.schema(), commit_properties=properties
    )
    return time.perf_counter() - began


def _actions(table: DeltaTable) -> list[dict[str, Any]]:
    return pa.table(table.get_add_actions(flatten=True)).to_pylist()


def merging(count: int) -> None:
    """Merging 1 % and 10 % of the rows, in pairs with the hand's copy-on-write of the same rows into a copy of the table."""
    print(
        f"\n{count:,} rows; medians of {ROUNDS} pairs{'':>20}Plain Step       by hand   ours/hand    written for a changed row"
    )
    for said, words in (("", "copy-on-write"), ("?deletion_vectors=true", "deletion vectors")):
        place = Place(count, f"delta:///lake{said}")
        hand = place.path / "hand"
        plain = pa.concat_tables([pq.read_table(one) for one in (place.path / "lake" / "tree").glob("*.parquet")])
        write_deltalake(str(hand), plain)
        paired(place, plain, words, lambda new, turn, hand=hand: by_hand(hand, new, turn))
        began = time.perf_counter()
        write_deltalake(str(place.path / "anew"), plain)
        print(f"   the table written anew, out of memory: {time.perf_counter() - began:.2f} s")
        del plain
        rewriting(place)
        shutil.rmtree(place.path)


def rewriting(place: Place) -> None:
    """A whole step over 1 %, read and merged, and the table rewritten from its source by hand, in pairs."""
    times: list[tuple[float, float]] = []
    for _ in range(3):
        place.grow(0.01)
        began = time.perf_counter()
        place.project.step("tree")
        stepped = time.perf_counter()
        rewritten(place)
        times.append((stepped - began, time.perf_counter() - stepped))
    step, anew = sorted(times, key=lambda pair: pair[1] / pair[0])[1]
    print(
        f"   1 % as a whole step: {step:.2f} s; the table rewritten from its source: {anew:.2f} s, {anew / step:.1f} times as long"
    )


def rewritten(place: Place) -> None:
    """Every row of the source, read some at a time, into a table of its own."""
    with closing(sqlite3.connect(place.path / "town.db", check_same_thread=False)) as town:
        cursor = town.execute("SELECT * FROM tree")
        names = [one[0] for one in cursor.description]
        made = (
            pa.table(list(map(pa.array, zip(*rows, strict=True))), names)
            for rows in iter(lambda: cursor.fetchmany(1 << 14), [])
        )
        first = next(made)
        batches = (batch for table in chain([first], made) for batch in table.to_batches())
        write_deltalake(
            str(place.path / "rewritten"), pa.RecordBatchReader.from_batches(first.schema, batches), mode="overwrite"
        )


def paired(place: Place, plain: pa.Table, words: str, hand: Callable[[pa.Table, int], float]) -> None:
    """Steps of ours and of the hand, in turns, over the same changes."""
    for share in (0.01, 0.1):
        ours, theirs, written, changed = [], [], [0, 0], 0
        for turn in range(ROUNDS):
            keys = place.grow(share)
            kind = plain.schema.field("tree_id").type
            new = plain.filter(pc.is_in(plain["tree_id"], value_set=pa.array(keys, kind)))
            changed += len(keys)
            for side in (0, 1) if turn % 2 else (1, 0):
                before = place.written()
                if side:
                    ours.append(place.merged())
                else:
                    theirs.append(hand(new, turn))
                written[side] += place.written() - before
        mine, other = sorted(ours)[ROUNDS // 2], sorted(theirs)[ROUNDS // 2]
        each = f"  {written[1] / changed:,.0f} and {written[0] / changed:,.0f} bytes"
        row(f"merging {share:.0%}, {words}", seconds(mine), seconds(other), f"{mine / other:.2f} x", each)


def iceberg(count: int) -> None:
    """The same into an Iceberg table; and one step of its library's own merge, for comparison."""
    place = Place(count, "iceberg+sqlite:///catalog.db?warehouse=warehouse", "town.tree")
    catalog = SqlCatalog(
        "default", uri=f"sqlite:///{place.path}/catalog.db", warehouse=(place.path / "warehouse").as_uri()
    )
    plain = catalog.load_table("town.tree").scan().to_arrow()
    catalog.create_table("town.hand", plain.schema).append(plain)

    def hand(new: pa.Table, turn: int) -> float:
        began = time.perf_counter()
        table = catalog.load_table("town.hand")
        left, gone = new, []
        for task in table.scan().plan_files():
            rows = pq.read_table(task.file.file_path.removeprefix("file://")).cast(new.schema)
            there = pc.is_in(rows["tree_id"], value_set=new["tree_id"].combine_chunks())
            if pc.any(there).as_py():
                left = pa.concat_tables([rows.filter(pc.invert(there)), left])
                gone.append(task.file)
        with table.transaction() as transaction, transaction.update_snapshot().overwrite() as change:
            for file in gone:
                change.delete_data_file(file)
            for file in _dataframe_to_data_files(transaction.table_metadata, left, table.io):
                change.append_data_file(file)
        return time.perf_counter() - began

    paired(place, plain, "Iceberg", hand)
    new = plain.slice(0, count // 100)
    began = time.perf_counter()
    catalog.load_table("town.hand").upsert(new, ["tree_id"])
    print(f"   1 % by the library's own merge: {time.perf_counter() - began:.2f} s")
    shutil.rmtree(place.path)


def small_steps(steps: int) -> None:
    """Small steps one after the other: the last ones beside the first; then their versions, read."""
    place = Place(20_000)
    place.project.step("back")
    took = []
    for _ in range(steps):
        place.grow(0.0005)
        began = time.perf_counter()
        place.project.step("tree")
        took.append(time.perf_counter() - began)
    tenth = steps // 10
    first, last = sorted(took[:tenth])[tenth // 2], sorted(took[-tenth:])[tenth // 2]
    files = len(DeltaTable(str(place.path / "lake" / "tree")).file_uris())
    print(
        f"\n{steps} small steps: the first {first * 1000:.0f} ms, the last {last * 1000:.0f} ms each; {files} files in the end"
    )
    began = time.perf_counter()
    [outcome] = place.project.step("back")
    assert outcome.entry is not None
    spent = time.perf_counter() - began
    print(
        f"their {steps} versions, read and merged: {spent:.1f} s, {spent / steps * 1000:.1f} ms each, {outcome.entry.changes:,} changes"
    )
    shutil.rmtree(place.path)


if __name__ == "__main__":
    for size in [int(one) for one in sys.argv[1:]] or [1_000_000]:
        merging(size)
        iceberg(size)
    if not sys.argv[1:]:
        small_steps(100)
