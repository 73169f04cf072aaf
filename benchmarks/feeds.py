"""Feeds: rows a second into changes, beside the plain reading of the same rows without interpreting them."""

from __future__ import annotations

import base64
import gzip
import io
import json
import sqlite3
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import fastavro
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.json
import pyarrow.parquet as pq

import plainstep
from benchmarks import best_of, in_pairs, row, seconds
from plainstep.core.positions import Position, Window
from plainstep.stores.api import Source

COUNT = 1_000_000
TREES = 100_000
WORDS = 'operation = "what"\ninsert = ["planted"]\nupdate = ["grew"]\ndelete = ["felled"]\n'
NEW = 'position = ["seq"]\ntime = "at"\n' + WORDS
BOTH = NEW + 'was = "was.*"\nnow = "now.*"\n'
LOADS = {
    "json": ("landing.new.jsonl", NEW),
    "json, old and new": ("landing.both.jsonl", BOTH + 'missing_field = "null"\n'),
    "json, by images": (
        "landing.both.jsonl",
        'position = ["seq"]\ntime = "at"\nonly_new = "insert"\nbookkeeping = ["what"]\nwas = "was.*"\nnow = "now.*"\nmissing_field = "null"\n',
    ),
    "json, SQL over fields": (
        "landing.new.jsonl",
        'position = ["seq"]\ntime = "at"\nskip = "what = \'beat\'"\noperation_sql = "upper(what)"\ninsert = ["PLANTED"]\nupdate = ["GREW"]\n',
    ),
    "json, encoded": ("landing.encoded.jsonl", NEW + 'encodings = { height_m = "decimal_bytes", ward = "tagged" }\n'),
    "json, gzip": ("landing.new.jsonl.gz", NEW),
    "csv": ("landing.new.csv", NEW),
    "parquet": ("landing.new.parquet", NEW),
    "parquet, old and new": ("landing.both.parquet", BOTH),
    "parquet, two rows an update": (
        "landing.pairs.parquet",
        NEW.replace("update = ", "update = [] # ") + 'update_was = ["before"]\nupdate_now = ["after"]\n',
    ),
    "parquet, in any order": (
        "landing.any.parquet",
        NEW.replace("update = ", "update = [] # ")
        + 'update_was = ["before"]\nupdate_now = ["after"]\npair = ["change"]\nbookkeeping = ["change"]\n',
    ),
    "json, patches": (
        "landing.patches.jsonl",
        'position = ["seq"]\ntime = "at"\noperation = "what"\nput = ["planted", "grew"]\nnow = "tree.*"\npatch = "changed"\n'
        'columns = { tree_id = "tree_id", species = "species", height_m = "height_m", ward = "ward" }\n',
    ),
    "json, several records": (
        "landing.several.jsonl",
        'position = ["seq"]\ntime = "at"\noperation = "what"\nput = ["planted", "grew"]\neach = "trees"\nnow = "trees.*"\n'
        'missing_field = "null"\n',
    ),
    "avro": ("landing.new.avro", NEW),
    "sqlite": ("town.new", NEW),
    "sqlite, documents": ("town.docs", 'position = ["seq"]\nnow = "doc.*"\nmissing_field = "null"\n' + WORDS),
    "duckdb": ("house.new", NEW),
}

PATCHES_SCHEMA = pyarrow.json.ParseOptions(
    explicit_schema=pa.schema(
        [
            ("tree", pa.struct([("species", pa.string()), ("height_m", pa.float64()), ("ward", pa.int64())])),
            ("changed", pa.struct([("height_m", pa.float64())])),
        ]
    )
)
# As many records stand in a message that tells of several.
EACH = 10
ROW = pa.struct([("tree_id", pa.int64()), ("species", pa.string()), ("height_m", pa.float64()), ("ward", pa.int64())])
# Without a schema, Arrow gives up where the old values of a first block are all null.
BOTH_SCHEMA = pyarrow.json.ParseOptions(
    explicit_schema=pa.schema(
        [("seq", pa.int64()), ("at", pa.string()), ("what", pa.string()), ("was", ROW), ("now", ROW)]
    )
)


def rows(count: int) -> pa.Table:
    """Changes of trees: planted, grown, felled."""
    chance = np.random.default_rng(7)
    trees = chance.integers(0, TREES, count)
    seq = np.arange(1, count + 1)
    heights = np.round(chance.random(count) * 30, 1)
    return pa.table(
        {
            "seq": seq,
            "at": pa.array(seq * 1_000_000 + 1_777_000_000_000_000).cast(pa.timestamp("us", "UTC")),
            "what": pa.array(np.where(seq <= TREES, "planted", "grew")),
            "tree_id": np.where(seq <= TREES, seq - 1, trees),
            "species": pa.array(np.array(["oak", "elm", "small-leaved lime"])[trees % 3]),
            "height_m": heights,
            "ward": trees % 12,
        }
    )


def images(table: pa.Table) -> pa.Table:
    """The same with old values, as two structs."""
    names = ["tree_id", "species", "height_m", "ward"]
    now = pa.StructArray.from_arrays([table[name].combine_chunks() for name in names], names)
    was = pc.if_else(pc.equal(table["what"], "planted"), None, now)
    return table.select(["seq", "at", "what"]).append_column("was", was).append_column("now", now)


def write(folder: Path, table: pa.Table) -> None:
    """The files and tables that are read."""
    landing = folder / "landing"
    landing.mkdir()
    both = images(table)
    for name, found in (("new", table), ("both", both)):
        pq.write_table(found, landing / f"{name}.parquet")
        plain = found.set_column(1, "at", pc.strftime(found["at"], "%Y-%m-%dT%H:%M:%SZ"))
        with (landing / f"{name}.jsonl").open("w") as stream:
            for batch in plain.to_batches(100_000):
                stream.writelines(json.dumps(row) + "\n" for row in batch.to_pylist())
    encoded = table.set_column(1, "at", pc.strftime(table["at"], "%Y-%m-%dT%H:%M:%SZ"))
    with (landing / "encoded.jsonl").open("w") as stream:
        for one in encoded.to_pylist():
            digits = round(one["height_m"] * 10).to_bytes(3, "big", signed=True)
            coded = {"height_m": base64.b64encode(digits).decode(), "ward": {"number": one["ward"]}}
            stream.write(json.dumps(one | coded) + "\n")
    with (landing / "patches.jsonl").open("w") as stream:
        for one in encoded.to_pylist():
            told = {name: one.pop(name) for name in ("species", "height_m", "ward")}
            patch = {"changed": {"height_m": told["height_m"]}}
            stream.write(json.dumps(one | ({"tree": told} if one["what"] == "planted" else patch)) + "\n")
    with (landing / "several.jsonl").open("w") as stream:
        for start in range(0, encoded.num_rows, EACH):
            some = encoded.slice(start, EACH).to_pylist()
            head = {name: some[0][name] for name in ("seq", "at", "what")}
            trees = [{name: one[name] for name in ("tree_id", "species", "height_m", "ward")} for one in some]
            stream.write(json.dumps(head | {"trees": trees}) + "\n")
    (landing / "new.jsonl.gz").write_bytes(gzip.compress((landing / "new.jsonl").read_bytes(), 4))
    plain = table.set_column(1, "at", pc.strftime(table["at"], "%Y-%m-%dT%H:%M:%SZ"))
    pyarrow.csv.write_csv(plain, landing / "new.csv")
    twice = pa.table({name: pa.chunked_array([column]).take(np.repeat(np.arange(COUNT // 2), 2)) for name, column in
                      zip(table.column_names, (column.combine_chunks() for column in table.columns), strict=True)})  # fmt: skip
    words = np.where(np.arange(twice.num_rows) % 2 == 0, "before", "after")
    twice = twice.set_column(0, "seq", pa.array(np.arange(twice.num_rows))).set_column(2, "what", pa.array(words))
    pq.write_table(twice, landing / "pairs.parquet")
    change = twice.append_column("change", pa.array(np.arange(twice.num_rows) // 2))
    words = np.where(np.arange(twice.num_rows) % 2 == 0, "after", "before")
    pq.write_table(change.set_column(2, "what", pa.array(words)), landing / "any.parquet")
    kinds = {
        "seq": "long",
        "what": "string",
        "tree_id": "long",
        "species": "string",
        "height_m": "double",
        "ward": "long",
    }
    fields: list[dict[str, Any]] = [{"name": name, "type": kind} for name, kind in kinds.items()]
    fields.insert(1, {"name": "at", "type": {"type": "long", "logicalType": "timestamp-micros"}})
    with (landing / "new.avro").open("wb") as out:
        fastavro.writer(
            out,
            {"type": "record", "name": "change", "fields": fields},
            table.slice(0, COUNT // 5).to_pylist(),
            "deflate",
        )
    connection = sqlite3.connect(folder / "town.db")
    connection.execute(
        "CREATE TABLE new (seq INTEGER PRIMARY KEY, at TIMESTAMP, what TEXT, tree_id INTEGER, species TEXT, height_m REAL, ward INTEGER)"
    )
    connection.execute("CREATE TABLE docs (seq INTEGER PRIMARY KEY, what TEXT, doc TEXT)")
    values = [list(row.values()) for row in plain.to_pylist()]
    connection.executemany("INSERT INTO new VALUES (?, ?, ?, ?, ?, ?, ?)", values)
    names = ["tree_id", "species", "height_m", "ward"]
    connection.executemany(
        "INSERT INTO docs VALUES (?, ?, ?)",
        ((row[0], row[2], json.dumps(dict(zip(names, row[3:], strict=True)))) for row in values),
    )
    connection.commit()
    connection.close()
    import duckdb

    with duckdb.connect(str(folder / "house.duckdb")) as house:
        house.execute(f"CREATE TABLE new AS SELECT * FROM '{landing / 'new.parquet'}'")


def _avro(path: Path) -> int:
    with path.open("rb") as stream:
        return int(pa.Table.from_pylist(list(fastavro.reader(stream))).num_rows)


def _sqlite(path: Path, sql: str, document: int | None = None) -> int:
    """Rows as columns, the documents among them parsed."""
    connection = sqlite3.connect(path)
    count = 0
    cursor = connection.execute(sql)
    while some := cursor.fetchmany(2048):
        columns = list(zip(*some, strict=True))
        count += pa.table(
            [pa.array(column) for column in columns], names=[str(place) for place in range(len(columns))]
        ).num_rows
        if document is not None:
            pyarrow.json.read_json(io.BytesIO("\n".join(columns[document]).encode()))
    connection.close()
    return count


def _duckdb(path: Path) -> int:
    import duckdb

    with duckdb.connect(str(path), read_only=True) as house:
        return sum(batch.num_rows for batch in house.sql("SELECT * FROM new ORDER BY seq").to_arrow_reader(1 << 16))


def peers(folder: Path) -> dict[str, Callable[[], int]]:
    """The plain reading of the same rows, all of them, batch by batch where that is how it is done."""
    landing = folder / "landing"

    def parquet(name: str) -> Callable[[], int]:
        return lambda: sum(batch.num_rows for batch in pq.ParquetFile(landing / name).iter_batches(1 << 16))

    return {
        "json": lambda: pyarrow.json.read_json(landing / "new.jsonl").num_rows,
        "json, old and new": lambda: pyarrow.json.read_json(landing / "both.jsonl", parse_options=BOTH_SCHEMA).num_rows,
        "json, by images": lambda: pyarrow.json.read_json(landing / "both.jsonl", parse_options=BOTH_SCHEMA).num_rows,
        "json, SQL over fields": lambda: pyarrow.json.read_json(landing / "new.jsonl").num_rows,
        "json, encoded": lambda: pyarrow.json.read_json(landing / "encoded.jsonl").num_rows,
        "json, gzip": lambda: pyarrow.json.read_json(pa.input_stream(str(landing / "new.jsonl.gz"))).num_rows,
        "csv": lambda: pyarrow.csv.read_csv(landing / "new.csv").num_rows,
        "parquet": parquet("new.parquet"),
        "parquet, old and new": parquet("both.parquet"),
        "parquet, two rows an update": parquet("pairs.parquet"),
        "parquet, in any order": parquet("any.parquet"),
        "json, patches": lambda: (
            pyarrow.json.read_json(landing / "patches.jsonl", parse_options=PATCHES_SCHEMA).num_rows
        ),
        "json, several records": lambda: pyarrow.json.read_json(landing / "several.jsonl").num_rows,
        "avro": lambda: _avro(landing / "new.avro"),
        "sqlite": lambda: _sqlite(folder / "town.db", "SELECT * FROM new ORDER BY seq"),
        "sqlite, documents": lambda: _sqlite(folder / "town.db", "SELECT * FROM docs ORDER BY seq", 2),
        "duckdb": lambda: _duckdb(folder / "house.duckdb"),
    }


def ours(source: Source) -> int:
    """Every change of a load, from where it ends now."""
    return sum(len(changes) for changes in source.read(Window.between(Position(0), source.span().end)))


SIDES = 1_000_000


def compared(folder: Path) -> tuple[float, float, float]:
    """A table of which 1 % has changed: a step that compares, pandas on the same two tables, a captured step."""
    connection = sqlite3.connect(folder / "park.db")
    connection.execute("CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, species TEXT, height_m REAL, ward INTEGER)")
    table = rows(SIDES).select(["species", "height_m", "ward"]).to_pandas()
    values = ((number, *row) for number, row in enumerate(table.itertuples(index=False, name=None)))
    connection.executemany("INSERT INTO tree VALUES (?, ?, ?, ?)", values)
    connection.commit()
    stores = '[stores.park]\nurl = "sqlite:///park.db"\n[stores.house]\nurl = "duckdb:///compared.duckdb"\n'
    loads = '[loads.{0}]\nfrom = "park.tree"\ninto = "house.{0}"\nchanges = "{0}"\n'
    (folder / "compare.toml").write_text(stores + loads.format("diff") + loads.format("capture"))
    project = plainstep.load_project(folder / "compare.toml")
    project.capture_on("park.tree")
    project.step()
    found = []
    for turn in range(3):
        connection.execute(f"UPDATE tree SET height_m = height_m + 1 WHERE tree_id % 100 = {turn}")
        connection.commit()
        theirs, mine, captured = best_of(
            1, lambda: _pandas(folder), lambda: project.step("diff"), lambda: project.step("capture")
        )
        found.append((mine, theirs, captured))
    connection.close()
    mine, theirs, captured = (min(times) for times in zip(*found, strict=True))
    return mine, theirs, captured


def _pandas(folder: Path) -> int:
    """The same differences by hand, in memory, without merging them."""
    import duckdb
    import pandas as pd

    connection = sqlite3.connect(folder / "park.db")
    source = pd.read_sql("SELECT * FROM tree", connection)
    connection.close()
    with duckdb.connect(str(folder / "compared.duckdb"), read_only=True) as house:
        target = house.execute('FROM "diff"').df()
    both = target.merge(source, on="tree_id", how="outer", suffixes=("_was", ""), indicator=True)
    differs = both["_merge"] != "both"
    for name in ("species", "height_m", "ward"):
        differs |= both[name] != both[name + "_was"]
    return int(differs.sum())


def main() -> None:
    """Print a line for each feed; of those that are named in its arguments, if there are any."""
    asked = sys.argv[1:]
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        write(folder, rows(COUNT))
        config = '[stores.town]\nurl = "sqlite:///town.db"\n[stores.landing]\nurl = "file:///landing"\n'
        config += '[stores.house]\nurl = "duckdb:///house.duckdb"\n[stores.shed]\nurl = "sqlite:///shed.db"\n'
        for number, (name, (source, layout)) in enumerate(LOADS.items()):
            config += f'[loads."{name}"]\nfrom = "{source}"\ninto = "shed.t{number}"\nkey = ["tree_id"]\n'
            types = 'types = { height_m = "DECIMAL(8,1)", ward = "INTEGER" }\n' if "encoded" in layout + source else ""
            config += f'{types}[loads."{name}".layout]\n{layout}'
        (folder / "plainstep.toml").write_text(config)
        print(f"feeds: {COUNT:,} rows into changes, and the plain reading of the same rows (medians of 12)\n")
        row("feed", "Plain Step", "plain", "ours/plain", "rows a second")
        for name, peer in peers(folder).items():
            if asked and name not in asked:
                continue
            read = plainstep.load_project(folder / "plainstep.toml").load(name).source
            mine, theirs, ratio = in_pairs(12, lambda read=read: ours(read), peer)
            count = COUNT // 5 if name == "avro" else COUNT
            row(name, seconds(mine), seconds(theirs), f"{ratio:.2f} x", f"{count / mine:,.0f}")

        if asked:
            return
        mine, theirs, captured = compared(folder)
        print(f"\ncomparing {SIDES:,} rows of which 1 % changed, SQLite to DuckDB (best of 3)\n")
        row("", "comparing", "by pandas", "ours/pandas", "captured step")
        row("1 % changed", seconds(mine), seconds(theirs), f"{mine / theirs:.2f} x", seconds(captured))


if __name__ == "__main__":
    main()
