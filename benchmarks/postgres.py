"""PostgreSQL beside hand-written peers: merging, merging into growing tables, capturing, reading, and whole steps.

A server of its own is started from the installed binaries, with fsync on, and ended afterwards.
"""

from __future__ import annotations

import functools
import io
import subprocess
import sys
import tempfile
import time
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
from tests.postgres import Cluster, Database, binaries

import plainstep
from benchmarks import in_pairs, row, seconds
from plainstep.core.positions import Watermark, Window
from plainstep.core.schema_drift import Fit
from plainstep.core.shapes.edits import Edits
from plainstep.demo.town import trees
from plainstep.stores.capabilities import with_capture, with_target
from plainstep.stores.records import Commit, LedgerEntry, Part
from plainstep.stores.registry import open_store

COLUMNS = "tree_id bigint, ward_id bigint, species text, planted date, height_m double precision, girth_cm bigint, status text"
TREE = f"CREATE TABLE tree ({COLUMNS}, PRIMARY KEY (tree_id))"
NAMES = [column.split()[0] for column in COLUMNS.split(", ")]
SAMPLE = trees(10_000)
WIDTHS = (44, 14, 14, 12)


@functools.cache
def server() -> Cluster:
    """A server that is set up for work, not for tests."""
    found = binaries()
    if found is None:
        sys.exit("PostgreSQL's server binaries are not installed: apt-get install postgresql")
    return Cluster(found, fsync="on", max_wal_size="8GB", shared_buffers="1GB", checkpoint_timeout="30min")


def fresh(*statements: str) -> Database:
    """A database of its own on that server."""
    return Database(*statements, server=server())


def fill(database: Database, table: str, rows: int) -> None:
    """A table of so many trees, made by the server out of a sample."""
    with database.connect() as connection:
        connection.execute(f"CREATE TEMP TABLE sample ({COLUMNS})")
        with connection.cursor().copy("COPY sample FROM STDIN") as copy:
            for one in SAMPLE:
                copy.write_row(one)
        names = ", ".join(NAMES[1:])
        connection.execute(
            f"INSERT INTO {table} SELECT n, {names} FROM generate_series(1, {rows}) n JOIN sample ON tree_id = n % 10000 + 1"
        )
        connection.execute(f"VACUUM ANALYZE {table}")


def changed(count: int, rows: int, turn: int) -> pa.Table:
    """Net changes: of every ten, eight updates, one insert and one delete (told by the species)."""
    step = max(1, rows // count)
    keys = [n * step + 1 + turn for n in range(count)]
    new = [rows * (turn + 2) + n for n in range(count // 10)]
    sample = pa.Table.from_pylist([dict(zip(NAMES, one, strict=True)) for one in SAMPLE[:1000]])
    picked = sample.take(pa.array([n % 1000 for n in range(count)]))
    picked = picked.set_column(0, "tree_id", pa.array(new + keys[len(new) :], pa.int64()))
    return picked.cast(pa.schema([("tree_id", pa.int64()), ("ward_id", pa.int64()), ("species", pa.string()), ("planted", pa.date32()),
                                  ("height_m", pa.float64()), ("girth_cm", pa.int64()), ("status", pa.string())]))  # fmt: skip


def parts(count: int, rows: int, turn: int) -> tuple[int, pa.Table, pa.Table]:
    """How many rows are new, the rows to put (new ones first), and the keys to drop."""
    table = changed(count, rows, turn)
    tenth = count // 10
    return tenth, table.slice(0, count - tenth), table.slice(count - tenth).select(["tree_id"])


def by_hand(connection: psycopg.Connection[Any], puts: pa.Table, drops: pa.Table) -> float:
    """COPY into a temporary table and one MERGE, as a careful hand writes it."""
    lines = io.StringIO()
    for one in puts.to_pylist():
        lines.write("\t".join(str(value) if value is not None else "\\N" for value in one.values()) + "\tf\n")
    for one in drops.to_pylist():
        lines.write("\t".join([str(one["tree_id"]), *["\\N"] * 6]) + "\tt\n")
    text = lines.getvalue()
    sets = ", ".join(f"{name} = s.{name}" for name in NAMES[1:])
    values = ", ".join(f"s.{name}" for name in NAMES)
    began = time.perf_counter()
    connection.execute("BEGIN")
    connection.execute(f"CREATE TEMP TABLE staged ({COLUMNS}, gone boolean) ON COMMIT DROP")
    with connection.cursor().copy("COPY staged FROM STDIN") as copy:
        copy.write(text)
    connection.execute("ANALYZE staged")
    connection.execute(
        f"MERGE INTO hand t USING staged s ON t.tree_id = s.tree_id WHEN MATCHED AND s.gone THEN DELETE "
        f"WHEN MATCHED THEN UPDATE SET {sets} WHEN NOT MATCHED AND NOT s.gone THEN INSERT VALUES ({values})"
    )
    connection.execute("UPDATE watermark SET position = position + 1")
    connection.execute("COMMIT")
    return time.perf_counter() - began


def ours(target: Any, turn: int, new: int, puts: pa.Table, drops: pa.Table) -> float:
    """The same through a commit, with watermark and ledger."""
    watermark = target.watermark("tree")
    entry = LedgerEntry("tree", turn + 1, "changes", "x", turn, turn + 1, at=datetime.now(UTC))
    edits = Edits(put=puts, new=new, drop=drops)
    commit = Commit(
        [Part("tree", puts.schema, ("tree_id",), [edits], lambda info: Fit())],
        watermark,
        Watermark("tree", "x", turn + 1, None, turn + 1),
        entry,
    )
    began = time.perf_counter()
    target.commit(commit)
    taken = time.perf_counter() - began
    assert (entry.put, entry.drop, entry.contradictions) == (puts.num_rows, drops.num_rows, 0), entry
    return taken


def taking_turns(
    target: Any,
    by_hand: Callable[[pa.Table, pa.Table], float],
    sizes: tuple[int, int, int],
    after: Callable[[], None] = lambda: None,
) -> tuple[float, float]:
    """Best seconds of ours and of the hand's, each first in every other turn.

    Args:
        sizes: how many changes, in tables of how many rows, in how many turns.
        after: what is done after each turn.
    """
    count, rows, runs = sizes
    times: tuple[list[float], list[float]] = ([], [])
    for turn in range(runs):
        new, puts, drops = parts(count, rows, turn)
        for which in (0, 1) if turn % 2 else (1, 0):
            times[which].append(by_hand(puts, drops) if which else ours(target, turn, new, puts, drops))
        after()
    return min(times[0]), min(times[1])


def best_of(count: int, rows: int, runs: int) -> tuple[float, float]:
    """Best seconds of ours and of the hand's."""
    with fresh(TREE, TREE.replace("tree (", "hand ("), "CREATE TABLE watermark AS SELECT 0 AS position") as database:
        fill(database, "tree", rows)
        fill(database, "hand", rows)
        # Each keeps its connection: a new one must first map the server's memory, page by page.
        target, connection = with_target(open_store("target", database.url, Path())).target(), database.connect()
        best = taking_turns(
            target,
            functools.partial(by_hand, connection),
            (count, rows, runs),
            lambda: database.sql("VACUUM tree", "VACUUM hand"),
        )
        assert database.rows("SELECT count(*), sum(tree_id), sum(girth_cm) FROM tree") == database.rows(
            "SELECT count(*), sum(tree_id), sum(girth_cm) FROM hand"
        )
    return best


AUDIT = [
    "CREATE TABLE audit (id bigserial PRIMARY KEY, op text, at timestamptz, was jsonb, now jsonb)",
    "CREATE FUNCTION audit() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN INSERT INTO audit (op, at, was, now) "
    "VALUES (TG_OP, now(), to_jsonb(OLD), to_jsonb(NEW)); RETURN NULL; END'",
]
TABLES = ("accounts", "branches", "tellers")


def transactions(how: str, turn_seconds: int = 8) -> Callable[[], float]:
    """A function that tells pgbench's transactions per second, with its tables captured in one way."""
    database = fresh()
    bench = [
        str(server().bin / "pgbench"),
        "-h",
        "127.0.0.1",
        "-p",
        str(server().port),
        "-U",
        "postgres",
        "-n",
        database.name,
    ]
    subprocess.run([*bench, "-i", "-q", "-s", "10"], check=True, capture_output=True)
    if how == "audit":
        database.sql(*AUDIT)
        for table in TABLES:
            database.sql(
                f"CREATE TRIGGER audit AFTER INSERT OR UPDATE OR DELETE ON pgbench_{table} FOR EACH ROW EXECUTE FUNCTION audit()"
            )
    elif how != "nothing":
        store = with_capture(open_store("source", database.url, Path()), how)
        for table in TABLES:
            store.capture_on(f"pgbench_{table}", (), how, False)

    def measure() -> float:
        done = subprocess.run(
            [*bench, "-c", "4", "-j", "1", "-T", str(turn_seconds)], check=True, capture_output=True, text=True
        )
        return float(done.stdout.rpartition("tps = ")[2].split()[0])

    return measure


def capturing() -> None:
    ways = {how: transactions(how) for how in ("nothing", "audit", "capture", "log")}
    found: dict[str, list[float]] = {how: [] for how in ways}
    for _ in range(4):
        for how, measure in ways.items():
            found[how].append(measure())
    best = {how: max(values) for how, values in found.items()}
    print("\n(c) pgbench, 4 clients, transactions per second (best of 4)\n")
    for how, label in (
        ("nothing", "not captured"),
        ("audit", "barest audit trigger"),
        ("capture", "captured"),
        ("log", "in the log"),
    ):
        print(
            f"{label:24} {best[how]:10,.0f}   each transaction takes {best['audit'] / best[how]:.2f} times the audit trigger's time"
        )


def project_of(source: Database, target: Database, how: str) -> plainstep.Project:
    folder = Path(tempfile.mkdtemp(prefix="plainstep-bench-"))
    (folder / "plainstep.toml").write_text(
        f"[stores.s]\nurl = '{source.url}'\n[stores.t]\nurl = '{target.url}'\n"
        f"[loads.tree]\nfrom = 's.tree'\ninto = 't.tree'\nchanges = '{how}'\n"
    )
    return plainstep.load_project(folder / "plainstep.toml")


def reading() -> None:
    print("\n(d) reading 1,000,000 changes into Arrow, rows a second (median of 5, taking turns)\n")
    read("capture", "a typed table, as columns", fetch_typed)
    read("log", "the log's messages, not decoded", fetch_messages)
    # The server notes every 15 seconds from where on it can decode its log. In one that is written at once there is no such place, and the
    # second half goes through the first once more.
    read("log", "the messages of a log written over 40 s", fetch_messages, pause=4)


def read(how: str, what: str, fetch: Callable[[Database], None], pause: float = 0) -> None:
    """Print a line: changes read by us, and psycopg's fetch of as many.

    Args:
        pause: seconds after each of ten transactions.
    """
    with fresh(TREE) as source, fresh() as target:
        project = project_of(source, target, how)
        fill(source, "tree", 100_000)
        project.capture_on("s.tree", (), how)
        project.step()
        for n in range(10):
            source.sql(f"UPDATE tree SET girth_cm = {n} + girth_cm")
            time.sleep(pause)
        if how == "capture":
            make_typed(source)  # not into a log that is to be read
        load = project.load("tree")
        span, watermark = load.source.span(), load.target.watermark("tree")
        assert watermark is not None
        window = Window.between(watermark.reached, span.end)
        count = sum(len(batch) for batch in load.source.read(window))
        ours, theirs, ratio = in_pairs(5, lambda: deque(load.source.read(window), 0), lambda: fetch(source))
        row(
            f"{how}; psycopg's fetch of {what}",
            f"{count / ours:,.0f}",
            f"{count / theirs:,.0f}",
            f"{1 / ratio:.2f} x",
            widths=(62, *WIDTHS[1:]),
        )


def make_typed(source: Database) -> None:
    """A table of as many changes, with a column for each value."""
    typed = ", ".join(
        f'"{side}.{column}'.replace(" ", '" ', 1) for side in ("was", "now") for column in COLUMNS.split(", ")
    )
    names = ", ".join(NAMES)
    source.sql(
        f"CREATE TABLE typed (seq bigint, op text, at timestamptz, {typed})",
        f"INSERT INTO typed SELECT n, 'update', now(), a.*, a.* FROM (SELECT {names} FROM tree) a, generate_series(1, 10) n",
    )


def fetch_typed(source: Database) -> None:
    """Psycopg fetches them, and they become Arrow."""
    with source.connect() as connection:
        rows = connection.execute("SELECT * FROM typed").fetchall()
        columns = [pa.array(values) for values in zip(*rows, strict=True)]
        assert len(columns) == 17


def fetch_messages(source: Database) -> None:
    """Psycopg fetches the same messages, and nothing is made of them."""
    with source.connect() as connection, connection.cursor(binary=True) as cursor:
        [(slot, published)] = connection.execute(
            "SELECT slot_name, pubname FROM pg_replication_slots, pg_publication WHERE database = current_database()"
        ).fetchall()
        rows = cursor.execute(
            f"SELECT data FROM pg_logical_slot_peek_binary_changes('{slot}', NULL, NULL, 'proto_version', '1', 'publication_names', '{published}')"
        ).fetchall()
        assert len(rows) > 1_000_000


def stepping() -> None:
    print("\n(e) a step at 1 % of 1,000,000 rows changed, beside a reload by hand (COPY out, COPY in)\n")
    for how in ("capture", "log"):
        with fresh(TREE) as source, fresh() as target:
            project = project_of(source, target, how)
            fill(source, "tree", 1_000_000)
            project.capture_on("s.tree", (), how)
            project.step()
            steps = []
            for turn in range(4):
                source.sql(f"UPDATE tree SET height_m = height_m + 0.1 WHERE tree_id % 100 = {turn}")
                [outcome] = project.step()
                steps.append(outcome.seconds)
            began = time.perf_counter()
            with source.connect() as here, target.connect() as there:
                there.execute("BEGIN; CREATE TABLE again (LIKE tree INCLUDING ALL)")
                with (
                    here.cursor().copy("COPY tree TO STDOUT (FORMAT binary)") as out,
                    there.cursor().copy("COPY again FROM STDIN (FORMAT binary)") as into,
                ):
                    for data in out:
                        into.write(data)
                there.execute("DROP TABLE tree; ALTER TABLE again RENAME TO tree; COMMIT")
            reload = time.perf_counter() - began
            row(
                how,
                seconds(min(steps)),
                seconds(reload),
                f"{reload / min(steps):.1f} x faster",
                widths=(44, 14, 14, 14),
            )


def merging() -> None:
    print("\n(a) 200,000 net changes into a table of 2,000,000 rows, beside COPY and MERGE by hand (best of 4)\n")
    mine, hand = best_of(200_000, 2_000_000, 4)
    row("200,000 into 2,000,000", seconds(mine), seconds(hand), f"{mine / hand:.2f} x", widths=WIDTHS)
    print("\n(b) 10,000 net changes into tables of growing size (best of 5)\n")
    first = 0.0
    for rows in (500_000, 2_000_000, 8_000_000):
        mine, hand = best_of(10_000, rows, 5)
        first = first or mine
        row(
            f"10,000 into {rows:,}",
            seconds(mine),
            seconds(hand),
            f"{mine / hand:.2f} x",
            f"{mine / first:.2f} x the first",
            widths=(*WIDTHS, 18),
        )


def main() -> None:
    for part in (merging, capturing, reading, stepping):
        if not sys.argv[1:] or part.__name__ in sys.argv[1:]:
            part()


if __name__ == "__main__":
    main()
