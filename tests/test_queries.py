"""Databases that tell their changes by queries: the stand-ins of examples/queries, by PostgreSQL's own store and by SQLAlchemy."""

from __future__ import annotations

import contextlib
import random
import tempfile
import threading
import time
import unittest
from contextlib import closing
from pathlib import Path
from typing import Any

import duckdb
import psycopg

import plainstep
from plainstep.errors import ConfigError, Refused
from tests.postgres import Database
from tests.support import examples

EXAMPLES = Path(__file__).parent.parent / "examples" / "queries"
LOADS = ("captured", "net", "numbered", "between_times")
STATEMENTS = (
    "INSERT INTO tree VALUES ({key}, 'oak', {key}.5, NULL) ON CONFLICT DO NOTHING",
    "UPDATE tree SET species = 'elm', height_m = {other}.25 WHERE tree_id = {key}",
    "DELETE FROM tree WHERE tree_id = {key}",
    "UPDATE tree SET tree_id = {other} WHERE tree_id = {key} AND NOT EXISTS (SELECT 1 FROM tree t WHERE t.tree_id = {other})",
)
ROWS = "SELECT tree_id, species, height_m, ward FROM tree ORDER BY tree_id"


class Standing:
    """A database with all stand-ins, and a project that reads it in every way."""

    def __init__(self, case: unittest.TestCase, scheme: str = "postgresql", wait: float = 0.4) -> None:
        self.database = Database()
        case.addCleanup(self.database.__exit__)
        self.connection = self.database.connect()
        case.addCleanup(self.connection.close)
        self.sql("CREATE TABLE tree (tree_id int PRIMARY KEY, species text, height_m numeric(5,2), ward text)")
        for name in ("captured", "numbered", "between_times", "triggers"):
            self.sql((EXAMPLES / f"{name}.sql").read_text())
        folder = tempfile.TemporaryDirectory(prefix="plainstep-queries-")
        case.addCleanup(folder.cleanup)
        self.path = Path(folder.name)
        text = (EXAMPLES / "plainstep.toml").read_text()
        self.config = self.path / "plainstep.toml"
        self.config.write_text(
            text.replace("postgresql://larkmoor@localhost/town", self.database.url.replace("postgresql", scheme, 1))
        )
        self.wait = wait

    def sql(self, *statements: Any) -> None:
        for one in statements:
            self.connection.execute(one)

    @property
    def project(self) -> plainstep.Project:
        project = plainstep.load_project(self.config)
        for store in project.stores.values():
            store.wait = self.wait
        return project

    def acts(self, chance: random.Random, transactions: int) -> None:
        """Some transactions, a few statements each; what one of them refuses is left out."""
        for _ in range(transactions):
            with self.connection.transaction():
                for _ in range(chance.randint(1, 4)):
                    key, other = chance.randrange(12), chance.randrange(12)
                    self.connection.execute(chance.choice(STATEMENTS).format(key=key, other=other))

    def equal(self, case: unittest.TestCase, project: plainstep.Project) -> None:
        rows = self.connection.execute(ROWS).fetchall()
        with duckdb.connect(str(self.path / "house.duckdb"), read_only=True) as house:
            for load in LOADS:
                found = house.execute(ROWS.replace("FROM tree", f"FROM {load}")).fetchall()
                case.assertEqual(found, rows, load)
        case.assertEqual([(one.load, one.ok) for one in project.check()], [(load, True) for load in LOADS])

    def edit(self, *pairs: tuple[str, str]) -> None:
        """Another plainstep.toml."""
        text = self.config.read_text()
        for old, new in pairs:
            assert old in text, old
            text = text.replace(old, new)
        self.config.write_text(text)


class StandIns(unittest.TestCase):
    scheme = "postgresql"

    def standing(self, **said: Any) -> Standing:
        return Standing(self, self.scheme, **said)

    def test_truth_and_any_cut(self) -> None:
        """After every step, each mirror is the table; a step with nothing new does nothing."""
        for seed in range(examples(1)):
            with self.subTest(seed=seed):
                standing, chance = self.standing(), random.Random(seed)
                standing.acts(chance, 3)
                for _ in range(5):
                    standing.sql("SELECT record.file()")
                    project = standing.project
                    project.step()
                    standing.equal(self, project)
                    self.assertEqual({one.changes for one in project.step()}, {0})
                    standing.acts(chance, chance.randint(1, 6))
                standing.connection.close()

    def test_open_transactions(self) -> None:
        """A change that is committed late, at a time before the head, is not passed over: that step waits, and says for whom."""
        standing = self.standing()
        standing.sql("INSERT INTO tree VALUES (1, 'oak', 1, 'north')", "SELECT record.file()")
        standing.project.step()
        with closing(standing.database.connect()) as late:
            late.execute("SET application_name = 'plainstep'")  # whatever it calls itself
            late.execute("BEGIN")
            late.execute("SELECT now()")  # it has not written yet
            time.sleep(0.05)
            standing.sql("UPDATE tree SET height_m = 2", "SELECT record.file()")
            outcomes = {one.load: one for one in standing.project.step(raise_errors=False)}
            self.assertEqual({one.outcome for load, one in outcomes.items() if load != "between_times"}, {"stepped"})
            self.assertEqual(outcomes["between_times"].outcome, "refused")
            self.assertIn("still open", str(outcomes["between_times"].error))
            late.execute("INSERT INTO tree VALUES (2, 'elm', 3, NULL)")
            late.execute("COMMIT")
        standing.sql("SELECT record.file()")
        project = standing.project
        project.step()
        standing.equal(self, project)

    def test_beside_writers(self) -> None:
        """Steps beside writers that leave transactions open, roll back and commit late, an agent and a cleanup: in the end, all is there."""
        standing, stop = self.standing(wait=5.0), threading.Event()

        def write(seed: int) -> None:
            chance = random.Random(seed)
            with closing(standing.database.connect()) as connection:
                while not stop.is_set():
                    with contextlib.suppress(psycopg.Error, InterruptedError), connection.transaction():
                        connection.execute("SELECT now()")
                        for _ in range(chance.randint(1, 3)):
                            connection.execute(
                                chance.choice(STATEMENTS).format(key=chance.randrange(12), other=chance.randrange(12))
                            )
                            time.sleep(chance.random() * 0.05)
                        if chance.random() < 0.2:
                            raise InterruptedError  # rolled back

        def agent() -> None:
            with closing(standing.database.connect()) as connection:
                while not stop.is_set():
                    connection.execute("SELECT record.file()")
                    connection.execute(
                        "SELECT version.forget(version.current() - 100), past.forget(past.clock() - interval '30 s')"
                    )
                    time.sleep(0.05)

        threads = [threading.Thread(target=write, args=(seed,)) for seed in range(2)] + [threading.Thread(target=agent)]
        for one in threads:
            one.start()
        try:
            for _ in range(examples(6)):
                for outcome in standing.project.step(raise_errors=False):
                    self.assertEqual((outcome.outcome, outcome.error), ("stepped", None), outcome.load)
        finally:
            stop.set()
            for one in threads:
                one.join()
        standing.sql("SELECT record.file()")
        standing.project.step()
        standing.equal(self, standing.project)

    def test_cleanup_overtakes(self) -> None:
        """What was removed before it was merged is noticed; a reload goes on from there."""
        standing = self.standing()
        standing.sql("INSERT INTO tree SELECT n, 'oak', n, NULL FROM generate_series(1, 5) n", "SELECT record.file()")
        standing.project.step()
        standing.sql("DELETE FROM tree WHERE tree_id = 2", "SELECT record.file()")
        standing.sql(
            "SELECT record.forget(record.last_position())",
            "SELECT version.forget(version.current())",
            "SELECT past.forget(past.clock())",
        )
        outcomes = standing.project.step(raise_errors=False)
        self.assertEqual({one.outcome for one in outcomes}, {"refused"})
        for one in outcomes:
            self.assertIn(f"plainstep reload {one.load}", one.error.next)
            self.assertEqual([status.health for status in standing.project.status(one.load)], ["refuses"])
            standing.project.reload(one.load)
        standing.equal(self, standing.project)
        standing.sql("INSERT INTO tree VALUES (9, 'elm', NULL, NULL)", "SELECT record.file()")
        standing.project.step()
        standing.equal(self, standing.project)
        self.assertEqual({one.health for one in standing.project.status()}, {"ok"})

    def test_restored(self) -> None:
        """A database that went back is noticed."""
        standing = self.standing()
        standing.sql("INSERT INTO tree VALUES (1, 'oak', 1, NULL)", "SELECT record.file()")
        standing.project.step()
        standing.sql(
            "UPDATE version.counter SET current = 0, minimum = 0", "UPDATE record.state SET filed_upto = int8send(0)"
        )
        for load in ("captured", "numbered"):
            with self.assertRaisesRegex(Refused, "ahead of the last position"):
                standing.project.step(load)
            standing.project.reload(load)
            self.assertEqual([one.health for one in standing.project.status(load)], ["ok"])

    def test_parts_times_and_looking(self) -> None:
        """Parts end between transactions; positions are found by times and told as times; one row's life is read."""
        standing = self.standing()
        standing.sql("INSERT INTO tree VALUES (1, 'oak', 1, NULL)", "SELECT record.file()")
        standing.edit(("[loads.captured]\n", "[loads.captured]\nat_most = 3\n"))
        project = standing.project
        project.step("captured")
        for height in range(2, 8):
            standing.sql(
                f"UPDATE tree SET height_m = {height}",
                f"INSERT INTO tree VALUES ({height}, 'elm', 0, NULL)",
                "SELECT record.file()",
            )
        [first] = project.step("captured")
        self.assertTrue(first.more)
        while project.step("captured")[0].more:
            pass
        self.assertEqual({one.changes <= 8 for one in project.ledger("captured")}, {True})
        self.assertTrue(project.check("captured")[0].ok)
        [moment] = standing.connection.execute(
            "SELECT at FROM record.moments ORDER BY position OFFSET 3 LIMIT 1"
        ).fetchone() or [None]
        self.assertEqual(project.look("captured", after="start", upto=moment.isoformat()).upto, "0x0000000000000004")
        self.assertEqual(len(project.trace("captured", "1").events), 7)
        before = (
            project.load("captured").target.watermark("captured"),
            standing.connection.execute("SELECT count(*) FROM record.filed").fetchone(),
        )
        project.net("captured", after="start"), project.status(), project.look("numbered")
        self.assertEqual(
            before,
            (
                project.load("captured").target.watermark("captured"),
                standing.connection.execute("SELECT count(*) FROM record.filed").fetchone(),
            ),
        )

    def test_a_quiet_table_is_not_left_behind(self) -> None:
        """Where other tables move the head, the watermark follows before the cleanup comes near it, and seldom."""
        standing = self.standing()
        standing.sql("INSERT INTO tree VALUES (1, 'oak', 1, NULL)", "SELECT record.file()")
        standing.project.step()
        for turn in range(1, 17):
            standing.sql("UPDATE version.counter SET current = current + 10, minimum = greatest(current - 40, 0)")
            standing.project.step("numbered")
            self.assertEqual([one.health for one in standing.project.status("numbered")], ["ok"], turn)
        steps = [one for one in standing.project.ledger("numbered") if one.kind == "changes"]
        self.assertTrue(2 <= len(steps) <= 9, steps)
        self.assertEqual({one.changes for one in steps}, {0})


class StandInsBySqlalchemy(StandIns):
    scheme = "postgresql+psycopg"


class WrongQueries(unittest.TestCase):
    """Queries that do not do what their names say are refused before anything is merged, and once they are mended, all is well."""

    CASES = (
        ("read of an empty window", "record.all_changes(:after, :upto)", "record.filed where position >= :after and position <= :upto order by 1, 2", "empty window"),
        ("out of order", "record.all_changes(:after, :upto)", "record.all_changes(:after, :upto) order by position desc, number", "ORDER BY position, number"),
        ("beyond the window", "select * from record.all_changes(:after, :upto)", "select * from record.filed where position > :after and :upto::bytea > :after order by 1, 2", "outside of the window|gives a row at"),
        ("a text", "select record.last_position()", "select 'P7'", "order of such values is not known"),
        ("two kinds", "select record.kept_after()", "select 0", "could not be compared"),
        ("two columns", "select * from record.all_changes(:after, :upto)", "select *, species from record.all_changes(:after, :upto)", "two columns of the name"),
        ("writes", "select * from record.all_changes(:after, :upto)", "with gone as (delete from record.filed returning *) select * from gone where position > :after and position <= :upto", "read-only|data-modifying"),
        ("not there", "record.all_changes", "record.every_change", "does not exist"),
        ("oldest at a change", "select record.kept_after()", "select position from record.filed order by 1 limit 1", "a change stands just there"),
        ("other rows each time", "select * from record.all_changes(:after, :upto)", "select position, number, code, tree_id, species, (random() * 99)::numeric(5,2) height_m, ward, mask from record.all_changes(:after, :upto)", "read again"),
    )  # fmt: skip

    def test_refused_and_mended(self) -> None:
        for scheme in ("postgresql", "postgresql+psycopg"):
            standing = Standing(self, scheme)
            standing.sql(
                "INSERT INTO tree SELECT n, 'oak', n, NULL FROM generate_series(1, 5) n", "SELECT record.file()"
            )
            standing.sql("UPDATE tree SET ward = 'north'", "SELECT record.file()")
            good = standing.config.read_text()
            for name, old, new, told in self.CASES:
                with self.subTest(name, scheme=scheme):
                    standing.config.write_text(good)
                    standing.edit((old, new))
                    [outcome] = standing.project.step("captured", raise_errors=False)
                    self.assertIn(outcome.outcome, ("refused", "failed"))
                    self.assertRegex(str(outcome.error), told)
                    self.assertIsNone(standing.project.load("captured").target.watermark("captured"))
            standing.config.write_text(good)
            standing.project.step()
            standing.equal(self, standing.project)

    def test_two_rows_of_a_key(self) -> None:
        """Without positions, a key that comes twice in a window has no order."""
        standing = Standing(self)
        standing.sql(
            "INSERT INTO tree VALUES (1, 'oak', 1, NULL)", "UPDATE tree SET height_m = 2", "SELECT record.file()"
        )
        good = standing.config.read_text()
        standing.edit(("record.net_changes(:after, :upto)", "record.all_changes(:after, :upto) where code <> 'old'"))
        with self.assertRaisesRegex(Refused, "2 rows with the key 1"):
            standing.project.step("net")
        standing.config.write_text(good)
        self.assertEqual([one.outcome for one in standing.project.step("net")], ["stepped"])

    def test_settings(self) -> None:
        """What a query must name, and what needs queries."""
        standing = Standing(self)
        good = standing.config.read_text()
        for old, new, told in (
            (
                "record.all_changes(:after, :upto)",
                "record.all_changes(:after, record.last_position())",
                "takes :after and :upto",
            ),
            ("record.time_of(:position)", "record.time_of(':position')", "takes :position"),
            ("[loads.net]\n", "[loads.net]\nat_most = 5\n", "at_most needs a 'position'"),
            ("[loads.captured.layout]\n", "[loads.captured.layout]\npartition = 'ward'\n", "partition"),
        ):
            with self.subTest(told):
                standing.config.write_text(good)
                standing.edit((old, new))
                with self.assertRaisesRegex(ConfigError, told):
                    standing.project.step("captured")
