"""Iceberg tables as targets: what others read of them, and others that write meanwhile."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from unittest import mock

import duckdb
import polars
import pyarrow as pa
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.schema import Schema
from pyiceberg.table import Table, Transaction
from pyiceberg.transforms import BucketTransform, DayTransform
from pyiceberg.types import IntegerType, LongType, NestedField, StringType, TimestamptzType
from sqlalchemy.exc import IntegrityError

import plainstep
from plainstep.stores.iceberg.commits import TableCommit
from tests.iceberg import catalogue, mark
from tests.postgres import Database, cluster
from tests.storage import storage
from tests.support import Town

TREE = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT, at TIMESTAMP)"
URL = "iceberg+sqlite:///catalog.db?warehouse=warehouse"
STORES = "[stores.town]\nurl = 'sqlite:///town.db'\n[stores.lake]\nurl = '{url}'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
LOADS = "[loads.tree]\nfrom = 'town.tree'\ninto = 'lake.town.tree'\ntypes = {at = 'TIMESTAMPTZ'}\n"


class Shore(Town):
    """A town whose captured table is mirrored into an Iceberg table."""

    def __init__(self, loads: str = LOADS, url: str = URL, **properties: str) -> None:
        super().__init__()
        self.config.write_text(STORES.format(url=url) + loads)
        self.properties = properties
        self.sql(TREE)
        self.project.capture_on("town.tree")

    @property
    def catalogue(self) -> SqlCatalog:
        return catalogue(self.path, **self.properties)

    @property
    def table(self) -> Table:
        return self.catalogue.load_table("town.tree")

    def seen(self) -> list[tuple[Any, ...]]:
        """What the usual library reads."""
        return sorted(tuple(row.values())[:3] for row in self.table.scan().to_arrow().to_pylist())

    def there(self) -> list[tuple[Any, ...]]:
        return sorted(row[:3] for row in self.rows("town", "tree"))


class Target(unittest.TestCase):
    def shore(self, *said: str, **more: str) -> Shore:
        found = Shore(*said, **more)
        self.addCleanup(found.__exit__)
        return found

    def equal(self, town: Shore, *more: tuple[Any, ...]) -> None:
        self.assertIn(town.project.step("tree")[0].outcome, ("stepped", "nothing"))
        self.assertEqual(town.seen(), sorted([*town.there(), *more]))
        self.assertEqual(town.project.check("tree")[0].ok, not more)
        self.assertEqual(town.project.status("tree")[0].health, "ok")
        self.assertEqual(town.project.step("tree")[0].outcome, "nothing")

    def grow(self, town: Shore, turn: int) -> None:
        """Every kind of change: of rows, of keys, of a row that goes and comes back."""
        base = turn * 20
        town.sql(
            *(
                f"INSERT INTO tree VALUES ({base + key}, {key}, 'oak', '2026-01-{key + 1:02} 10:00:00Z')"
                for key in range(9)
            ),
            "UPDATE tree SET a = a + 1 WHERE k % 3 = 0",
            f"UPDATE tree SET k = {base + 19} WHERE k = {base + 1}",
            f"DELETE FROM tree WHERE k IN ({base + 2}, {base - 15})",
            f"INSERT INTO tree VALUES ({base + 2}, NULL, NULL, NULL)",
        )

    def test_others_read_what_is_written(self) -> None:
        town = self.shore()
        for turn in range(3):
            self.grow(town, turn)
            self.equal(town)
        table = town.table
        paths = [task.file.file_path.removeprefix("file://") for task in table.scan().plan_files()]
        self.assertEqual(sorted(row[:3] for row in duckdb.read_parquet(paths).fetchall()), town.there())
        self.assertEqual(sorted(row[:3] for row in polars.scan_iceberg(table).collect().rows()), town.there())
        self.assertEqual([one.sequence_number for one in table.snapshots()], [1, 2, 3])
        newest = table.current_snapshot()
        assert newest is not None and newest.summary is not None
        self.assertEqual((newest.summary["plainstep-load"], newest.summary["plainstep-step"]), ("tree", "3"))
        town.sql("ALTER TABLE tree ADD COLUMN c TEXT")
        town.project.capture_refresh("town.tree")
        town.sql("UPDATE tree SET c = 'new' WHERE k = 0")
        self.equal(town)
        self.assertEqual(town.table.schema().as_arrow().names, ["k", "a", "b", "at", "c"])

    def test_tables_that_are_parted(self) -> None:
        """Partitions by bucket and by day, as whoever made the table chose them."""
        town = self.shore()
        fields = [("k", LongType()), ("a", IntegerType()), ("b", StringType()), ("at", TimestamptzType())]
        schema = Schema(*(NestedField(number, name, kind) for number, (name, kind) in enumerate(fields, 1)))
        table = town.catalogue.create_table("town.tree", schema)
        with table.update_spec() as spec:
            spec.add_field("k", BucketTransform(3))
            spec.add_field("at", DayTransform())
        for turn in range(3):
            self.grow(town, turn)
            self.equal(town)
        self.assertGreater(len({str(task.file.partition) for task in town.table.scan().plan_files()}), 3)

    def test_commits_of_others_come_first(self) -> None:
        """A stranger's snapshot in between: the step is made after it, never over it."""
        town = self.shore()
        self.grow(town, 0)
        self.equal(town)
        tried, turns = TableCommit.tried, list[bool]()

        def meanwhile(self: TableCommit, *more: Any) -> bool:
            real = Transaction.commit_transaction

            def after_another(transaction: Transaction) -> Any:
                if not turns:
                    turns.append(False)
                    there = town.table
                    row = {"k": 777, "a": 7, "b": "ash", "at": None}
                    there.append(pa.Table.from_pylist([row], there.schema().as_arrow()))
                return real(transaction)

            with mock.patch.object(Transaction, "commit_transaction", after_another):
                return tried(self, *more)

        town.sql("UPDATE tree SET a = 50 WHERE k = 3", "INSERT INTO tree VALUES (12, 2, 'elm', NULL)")
        before = {one.name for one in (town.path / "warehouse").rglob("data/*.parquet")}
        with mock.patch.object(TableCommit, "tried", meanwhile):
            [outcome] = town.project.step("tree")
        self.assertEqual(outcome.outcome, "stepped")
        assert outcome.entry is not None
        self.assertEqual((outcome.entry.put, outcome.entry.contradictions), (2, 0))
        self.equal(town, (777, 7, "ash"))
        # No file is left of the try that failed.
        named = {task.file.file_path.rpartition("/")[2] for task in town.table.scan().plan_files()}
        self.assertLessEqual({one.name for one in (town.path / "warehouse").rglob("data/*.parquet")}, before | named)
        town.project.check("tree", repair=True)
        self.equal(town)

    def test_a_commit_of_others_after_the_table_was_read(self) -> None:
        """A stranger inserts a row that the step is about to put: it is there once, as the step has it."""
        town = self.shore()
        self.grow(town, 0)
        self.equal(town)
        tried, turns = TableCommit.tried, list[bool]()

        def meanwhile(self: TableCommit, *more: Any) -> bool:
            if not turns:
                there = town.table
                row = {"k": 12, "a": 7, "b": "ash", "at": None}
                there.append(pa.Table.from_pylist([row], there.schema().as_arrow()))
            turns.append(tried(self, *more))
            return turns[-1]

        town.sql("INSERT INTO tree VALUES (12, 2, 'elm', NULL)")
        with mock.patch.object(TableCommit, "tried", meanwhile):
            [outcome] = town.project.step("tree")
        self.assertEqual((turns, outcome.outcome), ([False, True], "stepped"))
        self.equal(town)

    def test_strangers_that_tidy_up(self) -> None:
        town = self.shore()
        acts: list[Callable[[Table], Any]] = [
            lambda table: table.overwrite(table.scan().to_arrow()),
            lambda table: table.maintenance.expire_snapshots().by_ids([one.snapshot_id for one in table.snapshots()[:-1]]).commit(),
            lambda table: table.transaction().set_properties({"owner": "somebody"}).commit_transaction(),
        ]  # fmt: skip
        for turn, act in enumerate(acts):
            self.grow(town, turn)
            self.equal(town)
            act(town.table)
            self.equal(town)
        # Rows that a stranger deletes, in a file of deletes, are missed; the repair brings them back.
        [task, *_] = town.table.scan().plan_files()
        mark(town.table, {task.file.file_path: [0]})
        self.assertFalse(town.project.check("tree")[0].ok)
        town.project.check("tree", repair=True)
        self.equal(town)
        # Put back to an earlier snapshot: its rows go back, and what says how far the load is merged does not.
        self.grow(town, 5)
        self.equal(town)
        table = town.table
        current = table.current_snapshot()
        assert current is not None and current.parent_snapshot_id is not None
        table.manage_snapshots().rollback_to_snapshot(current.parent_snapshot_id).commit()
        [outcome] = town.project.step("tree", raise_errors=False)
        self.assertEqual(outcome.outcome, "refused", outcome)
        self.assertIn("put back to an earlier state", str(outcome.error))
        self.assertIn("plainstep reload tree", str(outcome.error))
        self.assertNotEqual(town.project.status("tree")[0].health, "ok")
        town.project.reload("tree")
        self.equal(town)

    def test_answers_that_are_lost(self) -> None:
        """The commit was made, and nobody says so: its files stay, and the next step goes on from it."""
        town = self.shore()
        real = Transaction.commit_transaction

        def lost(transaction: Transaction) -> None:
            real(transaction)
            raise OSError("connection reset by peer")

        for turn in range(3):
            self.grow(town, turn)
            if not turn:
                self.equal(town)
                continue
            with mock.patch.object(Transaction, "commit_transaction", lost):
                [outcome] = town.project.step("tree", raise_errors=False)
            self.assertEqual(outcome.outcome, "failed")
            self.assertIn("the next one goes on from what is there", str(outcome.error))
            self.equal(town)

    def test_steps_that_race(self) -> None:
        """Sixteen at the same moment: one of them makes each snapshot."""
        town = self.shore()
        told = list[str]()
        for turn in range(3):
            self.grow(town, turn)
            projects = [plainstep.load_project(town.config) for _ in range(16)]
            with ThreadPoolExecutor(16) as pool:
                told += pool.map(lambda one: one.step("tree", raise_errors=False)[0].outcome, projects)
        self.assertEqual((len(told), told.count("stepped")), (48, 3), told)
        self.assertEqual(len(town.table.snapshots()), 3)
        self.equal(town)

    def test_others_that_make_the_catalogue_at_the_same_moment(self) -> None:
        """Its tables and the namespace are there a moment before they are made."""

        def raced(make: Callable[..., Any]) -> Callable[..., Any]:
            done = list[str]()

            def first(*args: Any) -> Any:
                found = make(*args)
                if not done:
                    done.append("")
                    raise IntegrityError("INSERT", {}, Exception("there is one already"))
                return found

            return first

        town = self.shore()
        self.grow(town, 0)
        tables, space = raced(SqlCatalog.create_tables), raced(SqlCatalog.create_namespace)
        with mock.patch.multiple(SqlCatalog, create_tables=tables, create_namespace=space):
            town.project.step()
        self.equal(town)

    def test_checks_beside_steps(self) -> None:
        """A check reads one version, of this format and of the other: whatever steps are made meanwhile, it finds both sides equal."""
        other = LOADS.replace("loads.tree", "loads.delta").replace("lake.town.tree", "other.tree")
        town = self.shore("[stores.other]\nurl = 'delta:///other'\n" + LOADS + other)
        self.grow(town, 0)
        town.project.step()

        def steps() -> None:
            for turn in range(1, 8):
                self.grow(town, turn)
                town.project.step()

        with ThreadPoolExecutor(1) as pool:
            stepping = pool.submit(steps)
            checks = []
            while not stepping.done():
                checks += town.project.check()
        stepping.result()
        self.assertGreater(len(checks), 4)
        self.assertEqual([one for one in checks if not one.ok], [])

    def test_the_ledger_in_several_books(self) -> None:
        town = self.shore()
        with mock.patch("plainstep.stores.books.STEPS", 2):
            for turn in range(5):
                self.grow(town, turn)
                town.project.step("tree")
        self.assertEqual([one.step for one in town.project.ledger("tree")], [1, 2, 3, 4, 5])
        self.assertEqual([one.step for one in town.project.ledger("tree", limit=2)], [4, 5])
        for path in (town.path / "warehouse").rglob("plainstep-*.json"):
            path.unlink()  # whoever removes what no snapshot names
        self.assertEqual([one.step for one in town.project.ledger("tree")], [5])
        self.equal(town)

    def test_a_chain_and_the_same_rows_everywhere(self) -> None:
        """One capture into five targets, row for row the same; and the versions of one of them as the source of a rollup."""
        others = "".join(
            f"[loads.{name}]\nfrom = 'town.tree'\ninto = '{into}'\ntypes = {{at = 'TIMESTAMPTZ'}}\n"
            for name, into in (
                ("duck", "house.tree"),
                ("shed", "shed.tree"),
                ("delta", "other.tree"),
                ("pg", "pg.tree"),
            )
        )
        sums = "[loads.sums]\nfrom = 'lake.town.tree'\ninto = 'house.sums'\nchanges = 'versions'\nkey = ['k']\nshape = 'rollup'\n"
        sums += "by = { b = \"coalesce(b, '')\" }\nmeasures = { trees = 'count(*)', total = 'sum(a)' }\n"
        with Database(server=cluster()) as server:
            more = f"[stores.shed]\nurl = 'sqlite:///shed.db'\n[stores.other]\nurl = 'delta:///other'\n[stores.pg]\nurl = '{server.url}'\n"
            town = self.shore(more + LOADS + others + sums)
            loads = ("tree", "duck", "shed", "delta", "pg")
            for turn in range(3):
                self.grow(town, turn)
                town.project.step(*loads)
                town.project.step("sums")
                found = {load: self._rows(town, load) for load in loads}
                self.assertEqual({load for load in loads if found[load] != found["duck"]}, set())
                with duckdb.connect(str(town.path / "house.duckdb"), read_only=True) as house:
                    rolled = house.execute("SELECT b, trees, total FROM sums ORDER BY ALL").fetchall()
                    wanted = house.execute(
                        "SELECT coalesce(b, ''), count(*), sum(a) FROM tree GROUP BY ALL ORDER BY ALL"
                    ).fetchall()
                self.assertEqual(rolled, wanted)
                self.assertTrue(all(one.ok for one in town.project.check()))

    def _rows(self, town: Shore, load: str) -> list[Any]:
        one = town.project.load(load)
        schema = pa.schema(
            [("k", pa.int64()), ("a", pa.int64()), ("b", pa.string()), ("at", pa.timestamp("us", "UTC"))]
        )
        held = one.target.fits(one.source.schema())
        batches = list(one.target.rows(one.into_table, held))
        return sorted(pa.Table.from_batches(batches, held).cast(schema).to_pylist(), key=lambda row: row["k"])

    def test_catalogues_elsewhere(self) -> None:
        """One in PostgreSQL, and files in a bucket."""
        with storage() as said, Database(server=cluster()) as server:
            url = f"iceberg+{server.url}?catalog=larkmoor&warehouse=s3://larkmoor/lake"
            town = self.shore(LOADS, url)
            self.assertEqual(town.project.status("tree")[0].health, "new")
            self.assertEqual(server.rows("SELECT count(*) FROM pg_tables WHERE tablename LIKE 'iceberg%'"), [(0,)])
            for turn in range(2):
                self.grow(town, turn)
                self.assertEqual(town.project.step("tree")[0].outcome, "stepped")
                self.assertTrue(town.project.check("tree")[0].ok)
            there = SqlCatalog(
                "larkmoor",
                uri=server.url.replace("postgresql:", "postgresql+psycopg:"),
                **{"s3.endpoint": said["AWS_ENDPOINT_URL"], "s3.region": "us-east-1"},
            ).load_table("town.tree")
            self.assertTrue(there.location().startswith("s3://larkmoor/lake"))
            self.assertEqual(
                sorted(tuple(row.values())[:3] for row in there.scan().to_arrow().to_pylist()), town.there()
            )
            # What is refused is written down, and steps before the first row, too: in pieces, for a property is short there.
            later = LOADS.replace("[loads.tree]", "[loads.later]").replace(
                "town.tree'\nt", "town.later'\nfirst = 'head'\nt"
            )
            town.config.write_text(town.config.read_text() + later)
            self.assertEqual([one.outcome for one in town.project.step("later")], ["stepped"])
            town.config.write_text(town.config.read_text().replace("types = {", 'where = "k > 3"\ntypes = {', 1))
            for turn in range(3):
                self.grow(town, turn + 7)
                told = town.run("step", "tree")
                self.assertEqual(told.exit_code, 4, told.output)
                self.assertNotIn("s3cretword", told.output)
            refused = town.project.load("tree").target.ledger("tree", refused=True)
            self.assertIn("where", refused[-1].note)
            town.project.reload("tree")
            self.assertTrue(all(one.ok for one in town.project.check("tree")))
            town.project.step("later")
            self.assertEqual(town.project.status("later")[0].health, "ok")

    def test_what_is_refused(self) -> None:
        town = self.shore()
        for old, new, words in (
            ("lake.town.tree", "lake.tree", "names no namespace"),
            ("?warehouse=warehouse", "", "does not say where new tables are to be"),
            (
                "into = 'lake.town.tree'",
                "into = 'lake.town.tree'\nshape = 'rollup'\nby = ['b']\nmeasures = {n = 'max(a)'}",
                "several of them",
            ),
        ):
            with self.subTest(new):
                text = town.config.read_text()
                town.config.write_text(text.replace(old, new))
                told = town.run("step", "tree")
                self.assertNotEqual(told.exit_code, 0)
                self.assertIn(words, told.output)
                town.config.write_text(text)
        town.catalogue.create_table("town.strict", Schema(NestedField(1, "k", LongType(), required=True)))
        town.config.write_text(town.config.read_text().replace("lake.town.tree", "lake.town.strict"))
        self.assertIn("has columns that take no null", town.run("step", "tree").output)


if __name__ == "__main__":
    unittest.main()
