"""Files that others drop: whatever is in them costs bounded memory and time, and is refused with the file's name."""

from __future__ import annotations

import gzip
import io
import json
import random
import re
import resource
import signal
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from unittest import mock

import fastavro
import pyarrow as pa
import pyarrow.parquet as pq

import plainstep
from plainstep.formats.reader import columns_of, read
from tests.support import PEAK, Town, examples

ROW = {"v": 1, "op": "i", "k": 1, "x": 5}
LAYOUT = """settle = "0s"
position = ["v"]
operation = "op"
insert = ["i"]
update = ["u"]
delete = ["d"]
"""
# Bytes that a process that reads a hostile file may take, and seconds of a processor.
MEMORY, SECONDS = 1 << 30, 20
SYNC = b"0" * 16


def load(file: str, more: str = "") -> str:
    """The settings of a load that reads a file."""
    return (
        "[stores.drop]\nurl = 'file:///in'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
        f"[loads.tree]\nfrom = 'drop.{file}'\ninto = 'house.tree'\nkey = ['k']\n{more}\n[loads.tree.layout]\n{LAYOUT}"
    )


def long_number(number: int) -> bytes:
    """A number as Avro writes it."""
    rest, out = number << 1, b""
    while rest & ~0x7F:
        out, rest = out + bytes([(rest & 0x7F) | 0x80]), rest >> 7
    return out + bytes([rest])


def avro(kind: object, *values: bytes, records: int = 1) -> bytes:
    """An Avro file with one block, of just these bytes."""
    names = [("v", "long"), ("op", "string"), ("k", "long"), ("x", kind)]
    schema = {"type": "record", "name": "r", "fields": [{"name": name, "type": one} for name, one in names]}
    head = io.BytesIO()
    fastavro.writer(head, fastavro.parse_schema(schema), [], sync_marker=SYNC)
    block = b"".join([long_number(1), long_number(1), b"i", long_number(1), *values])
    return head.getvalue() + long_number(records) + long_number(len(block)) + block + SYNC


def parquet(size: int, rows: int) -> bytes:
    sink = io.BytesIO()
    numbers = pa.array(range(rows))
    texts = pa.DictionaryArray.from_arrays(pa.array([0] * rows, pa.int32()), pa.array(["x" * size]))
    table = pa.table({"v": numbers, "op": ["i"] * rows, "k": numbers, "x": texts})
    pq.write_table(table, sink, compression="zstd", store_schema=False)
    return sink.getvalue()


def avro_bomb() -> bytes:
    fields = [("v", "long"), ("op", "string"), ("k", "long"), ("x", "bytes")]
    schema = {"type": "record", "name": "r", "fields": [{"name": name, "type": one} for name, one in fields]}
    sink = io.BytesIO()
    rows = ({"v": n, "op": "i", "k": n, "x": b"a" * (1 << 26)} for n in range(8))
    fastavro.writer(sink, fastavro.parse_schema(schema), rows, codec="deflate", sync_interval=1)
    return sink.getvalue()


HEAD = json.dumps(ROW).encode() + b"\n"
HOSTILE: dict[str, tuple[Callable[[], bytes], str]] = {
    "columns.csv": (
        lambda: (",".join(["v", "op", "k", *(f"c{n}" for n in range(20_000))]) + "\n" + ",".join(["1", "i"] + ["1"] * 20_001)).encode(),
        "20,003 columns",
    ),
    "fields.jsonl": (lambda: json.dumps(ROW | {f"f{n}": n for n in range(200_000)}).encode() + b"\n", "more than 4,096 fields"),
    "later.jsonl": (lambda: HEAD * 2000 + HEAD.replace(b"}\n", b', "x": ' + b"[" * 100_000 + b"]" * 100_000 + b"}\n"), "line 2001"),
    "deep.jsonl": (lambda: b'{"v": 1, "op": "i", "k": 1, "x": ' + b"[" * 100_000 + b"]" * 100_000 + b"}\n", "now = '*'"),
    "blanks.jsonl.gz": (lambda: gzip.compress(HEAD) + gzip.compress(b"\n" * (1 << 27), 1) * 16, "unpack to more than"),
    "blanks.csv.gz": (lambda: gzip.compress(b"v,op,k,x\n1,i,1,5\n") + gzip.compress(b"\n" * (1 << 27), 1) * 16, "unpack to more than"),
    "line.jsonl.gz": (lambda: gzip.compress(b'{"v": 1, "op": "') + gzip.compress(b"a" * (1 << 27), 1) * 4, "longer than 64 MiB"),
    "texts.parquet": (lambda: parquet(20_000, 100_000), "unpack to more than"),
    "long.parquet": (lambda: parquet(80 << 20, 2_000), "a row is longer than 64 MiB"),
    "nulls.avro": (lambda: avro({"type": "array", "items": "null"}, long_number(1 << 40), b"\0"), "whose items hold nothing"),
    "bytes.avro": (lambda: avro("bytes", long_number(1 << 40), b"a"), "cannot be read"),
    "records.avro": (lambda: avro("null", records=1 << 40), "cannot be read"),
    "bomb.avro": (avro_bomb, "a block is larger than"),
    "large.jsonl": (lambda: HEAD + b'{"v": 2, "op": "i", "k": 2, "x": 1e400}\n', "x is '1e400'"),
    "large.csv": (lambda: b"v,op,k,x\n1,i,1,1.5\n2,i,2,-1e400\n", "x is '-1e400'"),
    "nan.jsonl": (lambda: HEAD + b'{"v": 2, "op": "i", "k": 2, "x": NaN}\n', "line 2: it holds NaN"),
    "twice.jsonl": (lambda: HEAD + b'{"v": 2, "op": "i", "k": 2, "k": 3}\n', "line 2: it has the field k twice"),
}  # fmt: skip

# A step in a process of its own, which then tells how much memory it took.
STEP = f"""{PEAK}
import resource, sys
resource.setrlimit(resource.RLIMIT_CPU, ({SECONDS}, {SECONDS}))
from plainstep.cli.main import cli
try:
    cli(["-c", sys.argv[1], "step"])
finally:
    print("peak", int(peak() * (1 << 20)))
"""


class Dropped(unittest.TestCase):
    """A few bytes that would take all memory, or never end."""

    def test_each_is_refused_within_bounds(self) -> None:
        for name, (made, told) in HOSTILE.items():
            with self.subTest(name), Town() as town:
                (town.path / "in").mkdir()
                (town.path / "in" / name).write_bytes(made())
                town.config.write_text(load(name))
                done = subprocess.run(
                    [sys.executable, "-c", STEP, town.config], capture_output=True, text=True, timeout=15 * SECONDS, cwd=town.path, check=False
                )  # fmt: skip
                self.assertIn(told, done.stderr)
                self.assertIn(done.returncode, (2, 4))
                [peak] = re.findall(r"peak (\d+)", done.stdout)
                self.assertLess(int(peak), MEMORY)

    def test_what_is_bad_is_quarantined_and_what_is_good_is_read(self) -> None:
        with Town() as town:
            (town.path / "in").mkdir()
            rows = [ROW | {"v": n, "k": n} for n in range(1, 9)]
            lines = [json.dumps(row) for row in rows]
            lines[1] = lines[1].replace('"x": 5', '"x": 1e400')
            lines[2] = lines[2].replace('"x": 5', '"x": 5, "x": 6')
            lines[3] = lines[3].replace('"x": 5', '"x": ' + "[" * 3000 + "]" * 3000)
            (town.path / "in" / "a.jsonl").write_text("\n".join(lines) + "\n")
            settings = load("a.jsonl", "on_bad_row = 'quarantine'").replace('position = ["v"]\n', "")
            town.config.write_text(settings)
            done = town.run("step")
            self.assertEqual(done.exit_code, 0, done.stderr)
            self.assertEqual([row[1] for row in town.rows("house")], [1, 5, 6, 7, 8])
            self.assertEqual(
                [row.place for _, row in town.project.quarantine("tree")], ["a.jsonl:2", "a.jsonl:3", "a.jsonl:4"]
            )

    def test_a_long_row_that_is_what_it_should_be(self) -> None:
        with Town() as town:
            (town.path / "in").mkdir()
            (town.path / "in" / "a.jsonl").write_text(json.dumps(ROW | {"x": "y" * 9000}) + "\n")
            town.config.write_text(load("a.jsonl") + "max_row = '2KiB'\n")
            with (
                mock.patch("plainstep.formats.lines.BLOCK", 1024),
                mock.patch("plainstep.formats.reader.FIRST", 1024),
            ):
                told = town.run("step")
                self.assertIn("a line is longer than 2,048 bytes", told.stderr)
                self.assertIn("set max_row in the load's layout", told.stderr)
                town.config.write_text(load("a.jsonl") + "max_row = '16KiB'\n")
                self.assertEqual(town.run("step").exit_code, 0)
            town.config.write_text(load("a.jsonl") + "max_row = 'large'\n")
            self.assertIn("'large' is not a valid size", town.run("step").stderr)

    def test_links_that_lead_out(self) -> None:
        with Town() as town, tempfile.NamedTemporaryFile(suffix=".jsonl") as other:
            (town.path / "in").mkdir()
            Path(other.name).write_bytes(HEAD)
            (town.path / "in" / "a.jsonl").symlink_to(other.name)
            town.config.write_text(load("*.jsonl"))
            done = town.run("step")
            self.assertEqual(done.exit_code, 4, done.output)
            self.assertIn("a.jsonl is a link that leads out of", done.stderr)
            town.config.write_text(load("*.jsonl") + "follow_links = true\n")
            self.assertEqual(town.run("step").exit_code, 0)
            for outside in ("../*.jsonl", other.name):
                town.config.write_text(load(outside))
                self.assertIn("does not lie below", town.run("status").output)

    def test_spoiled_files_end_in_errors_of_our_own(self) -> None:
        """Files of every format, with some of their bytes changed: read, or refused, within bounds."""
        chance = random.Random(7)
        with tempfile.TemporaryDirectory() as folder:
            for number in range(examples(150)):
                name, data = chance.choice(list(whole()))
                path = Path(folder) / name
                path.write_bytes(spoiled(data, chance))
                with self.subTest(number=number, name=name):
                    look_at(path, 10)


def whole() -> Iterator[tuple[str, bytes]]:
    """Files of every format that are as they should be."""
    rows = [ROW | {"v": n, "k": n, "x": "é" * n} for n in range(40)]
    lines = "".join(json.dumps(row) + "\n" for row in rows).encode()
    table = pa.Table.from_pylist(rows)
    sink = io.BytesIO()
    pq.write_table(table, sink, row_group_size=15)
    csv = ("v,op,k,x\n" + "".join(f'{row["v"]},i,{row["k"]},"{row["x"]}, ""y"""\n' for row in rows)).encode()
    fields = [("v", "long"), ("op", "string"), ("k", "long"), ("x", "string"), ("y", {"type": "array", "items": "int"})]
    schema = fastavro.parse_schema(
        {"type": "record", "name": "r", "fields": [{"name": name, "type": kind} for name, kind in fields]}
    )
    for codec in ("null", "deflate", "xz", "bzip2"):
        packed = io.BytesIO()
        fastavro.writer(packed, schema, [row | {"y": [1, 2, 3]} for row in rows], codec=codec, sync_interval=300)
        yield f"{codec}.avro", packed.getvalue()
    yield from (("a.jsonl", lines), ("a.csv", csv), ("a.parquet", sink.getvalue()))
    yield from (("a.jsonl.gz", gzip.compress(lines)), ("a.csv.gz", gzip.compress(csv)))
    yield "a.jsonl.zst", pa.compress(lines, codec="zstd", asbytes=True)


def spoiled(data: bytes, chance: random.Random) -> bytes:
    """Some bytes changed, left out, doubled or put in."""
    found = bytearray(data)
    for _ in range(chance.randint(1, 8)):
        at = chance.randrange(len(found) + 1)
        match chance.randrange(5):
            case 0:
                found[at : at + 1] = bytes([chance.randrange(256)])
            case 1:
                del found[at : at + chance.randint(1, 40)]
            case 2:
                found[at:at] = found[at : at + chance.randint(1, 40)] * chance.randint(1, 5)
            case 3:
                found[at:at] = chance.choice(
                    [b"\xff" * 9, b"\0" * 8, b'"', b"[" * 2000, b"\n\n", b"\x80" * 9 + b"\x01"]
                )
            case _ if at < len(found):
                found[at] ^= 1 << chance.randrange(8)
    return bytes(found) or b"\0"


def look_at(path: Path, seconds: int) -> None:
    """Read a file to its end.

    Raises:
        TimeoutError: it did not end.
        MemoryError: it took too much.
    """

    def late(*_: object) -> None:
        raise TimeoutError(path.name)

    before = signal.signal(signal.SIGALRM, late)
    signal.alarm(seconds)
    try:
        columns_of(path, path.name)
        for _ in read(path, path.name):
            pass
    except plainstep.PlainStepError:
        pass
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)
    if resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 > 2 * MEMORY:
        raise MemoryError(path.name)


if __name__ == "__main__":
    unittest.main()
