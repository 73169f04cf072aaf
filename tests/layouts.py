"""One history, written out in every layout that can carry it, as other programs would write it."""

from __future__ import annotations

import base64
import gzip
import json
import sqlite3
from pathlib import Path
from typing import Any

import fastavro
import pyarrow as pa
import pyarrow.parquet as pq

from tests.histories import ROW

Change = dict[str, Any]

STORES = """
[stores.town]
url = "sqlite:///town.db"
[stores.landing]
url = "file:///landing"
[stores.house]
url = "duckdb:///house.duckdb"
"""
TABLES = """
CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT);
CREATE TABLE dated (k INTEGER PRIMARY KEY, a INTEGER, b TEXT, version INTEGER);
CREATE TABLE pairs (n INTEGER PRIMARY KEY, txn INTEGER, what TEXT, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE sides (batch INTEGER, line INTEGER, what INTEGER, old_k INTEGER, old_a INTEGER, old_b TEXT,
    new_k INTEGER, new_a INTEGER, new_b TEXT);
CREATE TABLE news (at TIMESTAMP, n BLOB, what TEXT, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE parts (n INTEGER PRIMARY KEY, what TEXT, fields TEXT, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE flags (n INTEGER PRIMARY KEY, what TEXT, k INTEGER, a INTEGER, b TEXT, has_a BOOLEAN, has_b BOOLEAN);
CREATE TABLE keys (n INTEGER PRIMARY KEY, k INTEGER);
CREATE TABLE docs (n INTEGER PRIMARY KEY, doc TEXT);
CREATE TABLE images (n INTEGER PRIMARY KEY, old_k INTEGER, old_a INTEGER, old_b TEXT, new_k INTEGER, new_a INTEGER, new_b TEXT);
CREATE TABLE mixed (n INTEGER PRIMARY KEY, kind TEXT, action TEXT, half INTEGER, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE puts (n INTEGER PRIMARY KEY, what TEXT, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE coded (n INTEGER PRIMARY KEY, doc TEXT);
CREATE TABLE marked (n INTEGER PRIMARY KEY, change INTEGER, what TEXT, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE alike (n INTEGER PRIMARY KEY, doc TEXT);
CREATE TABLE shards (shard TEXT, n INTEGER, what TEXT, k INTEGER, a INTEGER, b TEXT, PRIMARY KEY (shard, n));
CREATE TABLE periods (k INTEGER, since INTEGER, until INTEGER, a INTEGER, b TEXT);
CREATE TABLE patched (n INTEGER PRIMARY KEY, doc TEXT);
CREATE TABLE amended (n INTEGER PRIMARY KEY, what TEXT, key INTEGER, tree TEXT, changed TEXT, removed TEXT);
CREATE TABLE logged (lsn TEXT PRIMARY KEY, what TEXT, k INTEGER, a INTEGER, b TEXT);
CREATE TABLE latest (n INTEGER PRIMARY KEY, k INTEGER, a INTEGER, b TEXT, gone TIMESTAMP);
"""
WORDS = 'operation = "what"\ninsert = ["planted"]\nupdate = ["grew"]\ndelete = ["felled"]\ntruncate = ["cleared"]\n'
# Of every load: where it reads, what is said of it, what is said of its layout.
LOADS = {
    "capture": ("town.tree", 'first = "snapshot"', ""),
    "pairs": (
        "town.pairs",
        "",
        'position = ["n"]\ntransaction = "txn"\n' + WORDS.replace("update = ", "update = [] # ")
        + 'update_was = ["before"]\nupdate_now = ["after"]\n',
    ),
    "sides": (
        "town.sides",
        "",
        'position = ["batch", "line"]\noperation = "what"\ninsert = [1, 11]\nupdate = [7]\ndelete = [3]\ntruncate = [9]\n'
        'was = "old_*"\nnow = "new_*"\n',
    ),
    "news": ("town.news", "", 'position = ["at", "n"]\ntime = "at"\n' + WORDS),
    "parts": ("town.parts", "", 'position = ["n"]\nsent_columns = "fields"\n' + WORDS),
    "flags": ("town.flags", "", 'position = ["n"]\nsent_columns = "has_*"\n' + WORDS),
    "keys": ("town.keys", 'rows = "town.tree"', 'position = ["n"]\nlookup = true\n'),
    "docs": (
        "town.docs",
        "",
        'position = ["n"]\nwas = "doc.row.before.*"\nnow = "doc.row.after.*"\nmissing_field = "null"\n'
        + WORDS.replace('"what"', '"doc.what"'),
    ),
    "images": (
        "town.images", "", 'position = ["n"]\nwas = "old_*"\nnow = "new_*"\nonly_new = "insert"\n',
    ),
    "mixed": (  # other messages among them, and an update as a delete and an insert that a flag marks
        "town.mixed",
        "",
        'position = ["n"]\nskip = "kind <> \'tree\'"\nbookkeeping = ["kind", "action", "half"]\n'
        "operation_sql = \"action || coalesce(half, '0')\"\n"
        'insert = ["add0"]\ndelete = ["remove0"]\nupdate_was = ["remove1"]\nupdate_now = ["add1"]\n',
    ),
    "puts": ("town.puts", "", 'position = ["n"]\noperation = "what"\nput = ["set"]\ndelete = ["unset"]\n'),
    "coded": (
        "town.coded",
        'types = { k = "INTEGER", a = "INTEGER", b = "TEXT" }',
        'position = ["n"]\nskip = "doc.kind = \'beat\'"\nwas = "doc.before.*"\nnow = "doc.after.*"\nonly_new = "put"\n'
        'missing_field = "null"\nencodings = { a = "decimal_bytes", b = "tagged" }\n',
    ),
    "marked": (  # the new row before the old one
        "town.marked",
        "",
        'position = ["n"]\npair = ["change"]\nbookkeeping = ["change"]\noperation = "what"\ninsert = ["planted"]\ndelete = ["felled"]\n'
        'update_was = ["before"]\nupdate_now = ["after"]\n',
    ),
    "alike": (  # a list of keys, and the values that all of them got
        "town.alike",
        "",
        'position = ["n"]\neach = "doc.trees"\noperation = "doc.what"\nput = ["set"]\ndelete = ["unset"]\nnow = "doc.*"\n'
        'missing_field = "null"\ncolumns = { k = "trees", a = "a", b = "b" }\n',
    ),
    "many": (  # a list of rows
        "landing.many",
        "",
        'position = ["n"]\neach = "trees"\noperation = "what"\nput = ["set"]\ndelete = ["unset"]\nnow = "trees.*"\n'
        'bookkeeping = ["about"]\nmissing_field = "null"\n',
    ),
    "shards": (  # in order within each shard only
        "town.shards",
        "",
        'partition = "shard"\nposition = ["n"]\nbookkeeping = ["shard"]\noperation = "what"\n'
        'insert = ["planted"]\nupdate = ["grew"]\ndelete = ["felled"]\n',
    ),
    "folders": (
        "landing.folders",
        "",
        'partition = "folder"\nposition = ["n"]\nmissing_field = "null"\noperation = "what"\n'
        'put = ["set"]\ndelete = ["unset"]\n',
    ),
    "periods": (  # each row valid from one version to another
        "town.periods", "", 'valid_from = "since"\nvalid_to = "until"\n',
    ),
    "patched": (  # whole documents, and paths that changed
        "town.patched",
        "",
        'position = ["n"]\noperation = "doc.what"\nput = ["set", "change"]\ndelete = ["unset"]\nnow = "doc.tree.*"\n'
        'patch = "doc.changed"\nremoved = "doc.removed"\ncolumns = { k = "doc.key", a = "size.a", b = "b" }\n',
    ),
    "amended": (  # the same, each part in a column of its own
        "town.amended",
        "",
        'position = ["n"]\noperation = "what"\nput = ["set", "change"]\ndelete = ["unset"]\nnow = "tree.*"\n'
        'patch = "changed"\nremoved = "removed"\ncolumns = { k = "key", a = "size.a", b = "b" }\n',
    ),
    "folded": (
        "landing.folded",
        'types = { a = "INTEGER" }',
        'position = ["n"]\noperation = "what"\nput = ["set", "change"]\ndelete = ["unset"]\nnow = "tree.*"\n'
        'patch = "changed"\nremoved = "removed"\ncolumns = { k = "key", a = "size.a", b = "b" }\n',
    ),
    "logged": ("town.logged", "", 'position = ["lsn"]\nhexadecimal = ["lsn"]\n' + WORDS),
    "lines": (
        "landing.lines", "", 'position = ["lsn"]\nhexadecimal = ["lsn"]\nmissing_field = "null"\n' + WORDS,
    ),
    "latest": ("town.latest", "", 'position = ["n"]\ndeleted = "gone"\n'),
    "column": ("town.dated", 'changes = "column"\ncolumn = ["version"]\noverlap = 3', ""),
    "diff": ("town.tree", 'changes = "diff"', ""),
    "json": (
        "landing.json/*.jsonl*",
        "",
        'position = ["n"]\nwas = "before.*"\nnow = "after.*"\nmissing_field = "unsent"\n' + WORDS,
    ),
    "csv": (
        "landing.csv",
        'types = { k = "INTEGER", a = "INTEGER", b = "TEXT" }',
        'bookkeeping = ["n"]\n' + WORDS,
    ),
    "parquet": (
        "landing.parquet/*.parquet",
        "",
        'position = ["n"]\nwas = "was.*"\nnow = "now.*"\n' + WORDS,
    ),
    "avro": (
        "landing.avro",
        "",
        'position = ["n"]\nwas = "was.*"\nnow = "now.*"\n' + WORDS,
    ),
}  # fmt: skip
# Those that cannot tell deletes, or cannot tell them from rows that merely are not mentioned.
BLIND = ("column",)


def config(*only: str) -> str:
    """A plainstep.toml with a load for every layout."""
    text = STORES
    for name, (place, said, layout) in LOADS.items():
        if only and name not in only:
            continue
        text += f'\n[loads.{name}]\nfrom = "{place}"\ninto = "house.{name}"\nkey = ["k"]\n{said}\n'
        if layout:
            text += f"[loads.{name}.layout]\n{layout}"
    return text


class Writers:
    """Writes changes into all feeds of a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.count = self.plain = self.batches = 0
        connection = sqlite3.connect(folder / "town.db")
        connection.executescript(TABLES)
        connection.close()
        self.counts: dict[str, int] = {}
        for name in ("json", "csv", "parquet", "avro", "many", "folders", "folded", "lines"):
            (folder / "landing" / name).mkdir(parents=True)

    def write(self, changes: list[Change]) -> None:
        """Write down changes, and do them to the tables themselves."""
        self.batches += 1
        connection = sqlite3.connect(self.folder / "town.db")
        whole, simple, plain = [], [], []
        for change in changes:
            whole.append(change | {"n": self._next()})
            known = self._simply(connection, change) if change["op"] == "truncate" else [change]
            plain += [one | {"n": self.plain + 10 * place} for place, one in enumerate(known, 1)]
            self.plain += 10 * len(known)
            simple += [one | {"n": self._next()} for one in self._simply(connection, change)]
            self._do(connection, change)
        for one in simple:
            self._new_values(connection, one)
        for one in whole:
            self._both_images(connection, one)
        for one in plain:
            self._by_images(connection, one)
        self._by_partition(connection, plain)
        patches = [(place, document) for one in plain for place, document in _patches(one)]
        connection.executemany("INSERT INTO patched VALUES (?, ?)", [(n, json.dumps(one)) for n, one in patches])
        for n, patch in patches:
            parts = [json.dumps(patch[x]) if x in patch else None for x in ("tree", "changed", "removed")]
            connection.execute(
                "INSERT INTO amended VALUES (?, ?, ?, ?, ?, ?)", (n, patch["what"], patch["key"], *parts)
            )
        if patches:
            folded = "".join(json.dumps({"n": n} | one) + "\n" for n, one in patches)
            (self.folder / f"landing/folded/{self.batches:04}.jsonl").write_text(folded)
        messages = _grouped(plain)
        for n, word, rows in messages:
            for values in {(row["a"], row["b"]): None for row in rows}:
                told = [row["k"] for row in rows if (row["a"], row["b"]) == values]
                document = {"what": word, "trees": told} | (
                    dict(zip("ab", values, strict=True)) if word == "set" else {}
                )
                connection.execute("INSERT INTO alike VALUES (?, ?)", (n, json.dumps(document)))
                n += 1
        connection.commit()
        connection.close()
        if changes:
            self._files(whole, simple)
            lines = [{"n": n, "about": None, "what": word, "trees": rows} for n, word, rows in messages]
            (self.folder / f"landing/many/{self.batches:04}.jsonl").write_text(
                "".join(json.dumps(one) + "\n" for one in lines)
            )

    def _next(self) -> int:
        self.count += 10
        return self.count

    def _simply(self, connection: sqlite3.Connection, change: Change) -> list[Change]:
        """For feeds that know no truncate and no change of a key: as deletes and inserts."""
        was, now = change["was"], change["now"]
        if change["op"] == "truncate":
            rows = connection.execute("SELECT k, a, b FROM tree").fetchall()
            return [{"op": "delete", "was": dict(zip("kab", row, strict=True)), "now": None} for row in rows]
        if was and now and was["k"] != now["k"]:
            return [{"op": "delete", "was": was, "now": None}, {"op": "insert", "was": None, "now": now}]
        return [change]

    def _do(self, connection: sqlite3.Connection, change: Change) -> None:
        """Change the captured table, and one that keeps a version of each row."""
        was, now = change["was"], change["now"]
        if change["op"] == "truncate":
            connection.execute("DELETE FROM tree")
        elif was and not now:
            connection.execute("DELETE FROM tree WHERE k = ?", [was["k"]])
        elif was:
            connection.execute("UPDATE tree SET k = ?, a = ?, b = ? WHERE k = ?", [now[x] for x in "kab"] + [was["k"]])
        else:
            connection.execute("INSERT INTO tree VALUES (?, ?, ?)", [now[x] for x in "kab"])
        if now:
            version = connection.execute("SELECT coalesce(max(version), 0) + 1 FROM dated").fetchone()[0]
            connection.execute("INSERT OR REPLACE INTO dated VALUES (?, ?, ?, ?)", [*(now[x] for x in "kab"), version])

    def _new_values(self, connection: sqlite3.Connection, one: Change) -> None:
        n, was, now = one["n"], one["was"], one["now"]
        word, key = WORD[one["op"]], (now or was)["k"]
        values = [key, *((now[x] for x in "ab") if now else (None, None))]
        moment = f"2026-05-04 {n // 36000:02}:{n // 600 % 60:02}:{n // 10 % 60:02}"
        changed = [x for x in "ab" if not was or not now or was[x] != now[x]]
        sent = [key, *(now[x] if now and x in changed else None for x in "ab")]
        put = [n, "set" if now else "unset", *values]
        for table, row in {
            "puts": put,
            "news": [moment, n.to_bytes(8, "big"), word, *values],
            "parts": [n, word, " ".join(changed), *sent],
            "flags": [n, word, *sent, *(x in changed for x in "ab")],
            "keys": [n, key],
            "latest": [n, *values, None if now else moment],
            "logged": [f"{n // 48:X}/{n % 48:x}", word, *values],
        }.items():
            connection.execute(f"INSERT INTO {table} VALUES ({', '.join('?' * len(row))})", row)

    def _both_images(self, connection: sqlite3.Connection, one: Change) -> None:
        n, was, now = one["n"], one["was"], one["now"]
        if one["op"] == "update":
            pair = [[n + place, n, what, *(side[x] for x in "kab")] for place, what, side in
                    ((0, "before", was), (1, "after", now))]  # fmt: skip
        else:
            pair = [[n, n, WORD[one["op"]], *((now or was or {}).get(x) for x in "kab")]]
        connection.executemany("INSERT INTO pairs VALUES (?, ?, ?, ?, ?, ?)", pair)
        code = {"planted": 1 if n % 20 else 11, "grew": 7, "felled": 3, "cleared": 9}[WORD[one["op"]]]
        images = [(side or {}).get(x) for side in (was, now) for x in "kab"]
        connection.execute("INSERT INTO sides VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", [n // 30, n, code, *images])
        if was or one["op"] == "truncate":
            of = "" if one["op"] == "truncate" else f" AND k = {was['k']}"
            connection.execute(f"UPDATE periods SET until = {n} WHERE until IS NULL{of}")
        if now:
            connection.execute("INSERT INTO periods VALUES (?, ?, NULL, ?, ?)", [now["k"], n, now["a"], now["b"]])
        document = json.dumps({"what": WORD[one["op"]], "row": {"before": was, "after": now}})
        connection.execute("INSERT INTO docs VALUES (?, ?)", [n, document])

    def _by_images(self, connection: sqlite3.Connection, one: Change) -> None:
        """For feeds that tell an operation by the images, among messages that are about something else."""
        n, was, now = one["n"], one["was"], one["now"]
        if one["op"] == "truncate":
            raise AssertionError("these feeds know none")
        moved = was and now and was["k"] != now["k"]
        connection.execute(f"INSERT INTO images VALUES ({', '.join('?' * 7)})",
                           [n, *((side or {}).get(x) for side in (was, now) for x in "kab")])  # fmt: skip
        half = int(bool(was and now))
        rows = [(n, "beat", None, None, None, None, None)]
        rows += [(n + place, "tree", word, half or None, *(side[x] for x in "kab"))
                 for place, word, side in ((1, "remove", was), (2, "add", now)) if side]  # fmt: skip
        connection.executemany(f"INSERT INTO mixed VALUES ({', '.join('?' * 7)})", rows)
        assert not moved or rows
        words = [(n + 1, "after", now), (n + 2, "before", was)] if half else [(n, WORD[one["op"]], now or was)]
        connection.executemany("INSERT INTO marked VALUES (?, ?, ?, ?, ?, ?)",
                               [(place, n, word, *(side[x] for x in "kab")) for place, word, side in words])  # fmt: skip
        documents = [{"kind": "beat"}, {"before": _encoded(was), "after": _encoded(now)}]
        connection.executemany(
            "INSERT INTO coded VALUES (?, ?)", [(n + place, json.dumps(one)) for place, one in enumerate(documents)]
        )

    def _by_partition(self, connection: sqlite3.Connection, plain: list[Change]) -> None:
        """For feeds that count within a partition, each from its own number on."""
        lines: dict[str, list[str]] = {}
        for one in plain:
            was, now = one["was"], one["now"]
            moved = was and now and was["k"] != now["k"]
            parts = [("felled", was), ("planted", now)] if moved else [(WORD[one["op"]], now or was)]
            for word, row in parts:
                shard = ("north", "a=b,c/d%", "west")[row["k"] % 3]
                self.counts[shard] = n = self.counts.get(shard, 100 * len(self.counts)) + 1
                gone = word == "felled"
                values = [row["k"], None if gone else row["a"], None if gone else row["b"]]
                connection.execute("INSERT INTO shards VALUES (?, ?, ?, ?, ?, ?)", [shard, n, word, *values])
                line = {"n": n, "what": "unset" if gone else "set"} | dict(zip("kab", values, strict=True))
                lines.setdefault(shard, []).append(json.dumps(line) + "\n")
        for shard, written in lines.items():
            folder = self.folder / f"landing/folders/{shard}"
            folder.mkdir(exist_ok=True, parents=True)
            (folder / f"{self.batches:04}.jsonl").write_text("".join(written))

    def _files(self, whole: list[Change], simple: list[Change]) -> None:
        """A file of each kind; lines of JSON carry only what an update changed, and every other one is compressed."""
        name = f"{self.batches:04}"
        told = [(one["n"], one["now"] or {"k": one["was"]["k"]}, WORD[one["op"]]) for one in simple]
        text = "".join(
            json.dumps({"lsn": f"{n // 48:x}:{n % 48:X}", "what": word} | row) + "\n" for n, row, word in told
        )
        (self.folder / f"landing/lines/{name}.jsonl").write_text(text)
        rows = [{"n": one["n"], "what": WORD[one["op"]], "was": one["was"], "now": one["now"]} for one in whole]
        landing = self.folder / "landing"
        lines = "".join(json.dumps(_lean(one)) + "\n" for one in simple).encode()
        odd = self.batches % 2
        (landing / f"json/{name}.jsonl{'.gz' * odd}").write_bytes(gzip.compress(lines) if odd else lines)
        with (landing / f"csv/{name}.csv").open("w", encoding="utf-8") as stream:
            stream.write("n,what,k,a,b\n")
            for one in simple:
                values = [(one["now"] or {"k": one["was"]["k"]}).get(x) for x in "kab"]
                stream.write(",".join(map(_cell, [one["n"], WORD[one["op"]], *values])) + "\n")
        image = pa.struct(list(ROW))
        schema = pa.schema([("n", pa.int64()), ("what", pa.string()), ("was", image), ("now", image)])
        pq.write_table(pa.Table.from_pylist(rows, schema), landing / f"parquet/{name}.parquet")
        with (landing / f"avro/{name}.avro").open("wb") as stream:
            fastavro.writer(stream, AVRO, rows, codec="deflate")


def _grouped(changes: list[Change]) -> list[tuple[int, str, list[dict[str, Any]]]]:
    """Messages of several rows: changes in a row of one kind, of which none is of a row that another is of."""
    messages: list[tuple[int, str, list[dict[str, Any]]]] = []
    for one in changes:
        was, now = one["was"], one["now"]
        moved = was and now and was["k"] != now["k"]
        for word, row in [("unset", was)] * bool(moved) + [("set", now) if now else ("unset", was)]:
            keys = [row["k"] for row in messages[-1][2]] if messages and messages[-1][1] == word else [row["k"]]
            if row["k"] in keys:
                messages.append((one["n"] + 5 * (word == "set"), word, []))
            messages[-1][2].append(row)
    return messages


def _patches(one: Change) -> list[tuple[int, dict[str, Any]]]:
    """A change as document stores tell it: what was written whole, or what became of some paths."""
    n, was, now = one["n"], one["was"], one["now"]
    gone = [(n, {"what": "unset", "key": was["k"]})] if was and (not now or was["k"] != now["k"]) else []
    if not now:
        return gone
    if not was or gone:
        whole = {"size": {"a": now["a"]}, "b": now["b"]}
        return [
            *gone,
            (
                n + 1,
                {
                    "what": "set",
                    "key": now["k"],
                    "tree": whole
                    if n % 20
                    else {"b": now["b"], **({} if now["a"] is None else {"size": {"a": now["a"]}})},
                },
            ),
        ]
    paths = {x: now[x] for x in "ab" if now[x] != was[x]}
    changed = {{"a": "size.a", "b": "b"}[x]: value for x, value in paths.items() if value is not None}
    if "size.a" in changed and n % 20:
        changed["size"] = {"a": changed.pop("size.a"), "unit": "m"}
    removed = [{"a": "size.a" if n % 20 else "size", "b": "b"}[x] for x, value in paths.items() if value is None]
    return [(n, {"what": "change", "key": now["k"], "changed": changed, "removed": removed})]


def _encoded(row: dict[str, Any] | None) -> dict[str, Any] | None:
    """A row whose number is bytes in base64, and whose text is in an object that names its type."""
    if row is None:
        return None
    number = None if row["a"] is None else base64.b64encode(row["a"].to_bytes(9, "big", signed=True)).decode()
    return {"k": row["k"], "a": number, "b": None if row["b"] is None else {"text": row["b"]}}


WORD = {"insert": "planted", "update": "grew", "delete": "felled", "truncate": "cleared"}


def _cell(value: Any) -> str:
    """A null is an empty value; an empty text is one in quotes."""
    return "" if value is None else f'"{value}"' if isinstance(value, str) else str(value)


def _lean(one: Change) -> Change:
    """An update with those new values only that are new."""
    was, now = one["was"], one["now"]
    if was and now:
        now = {"k": now["k"]} | {x: now[x] for x in "ab" if now[x] != was[x]}
    return {"n": one["n"], "what": WORD[one["op"]], "before": was, "after": now}


IMAGE = {
    "type": "record",
    "name": "image",
    "fields": [
        {"name": "k", "type": "long"},
        {"name": "a", "type": ["null", "long"]},
        {"name": "b", "type": ["null", "string"]},
    ],
}
AVRO = fastavro.parse_schema(
    {
        "type": "record",
        "name": "change",
        "fields": [
            {"name": "n", "type": "long"},
            {"name": "what", "type": "string"},
            {"name": "was", "type": ["null", IMAGE]},
            {"name": "now", "type": ["null", "image"]},
        ],
    }
)
