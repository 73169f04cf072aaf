"""PostgreSQL for real: concurrent writers, open transactions, lost connections, odd tables, least privileges."""

from __future__ import annotations

import contextlib
import unittest
from collections.abc import Iterator
from typing import Any

import psycopg
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.postgres import Database
from tests.support import WITHOUT_SHRINKING, Town

TREE = "CREATE TABLE tree (k int PRIMARY KEY, a int, b text)"
INTO = ("into_postgres", "into_duckdb", "into_sqlite")


@contextlib.contextmanager
def park(
    *statements: str, how: str = "capture", table: str = "public.tree", more: str = ""
) -> Iterator[tuple[Database, Database, Town]]:
    """A source database, a target database, and a town with loads from the one into the other and into two files."""
    with Database(*statements) as source, Database() as target, Town() as town:
        loads = "".join(
            f"[loads.{name}]\nfrom = 'source.{table}'\ninto = '{into}'\nchanges = '{how}'\n{more}\n"
            for name, into in zip(INTO, ("target.copied", "house.copied", "shed.copied"), strict=True)
        )
        stores = f"[stores.source]\nurl = '{source.url}'\n[stores.target]\nurl = '{target.url}'\n"
        files = "[stores.house]\nurl = 'duckdb:///house.duckdb'\n[stores.shed]\nurl = 'sqlite:///shed.db'\n"
        town.config.write_text(stores + files + loads)
        town.project.capture_on(f"source.{table}", (), how)
        yield source, target, town


acts = st.one_of(
    st.tuples(st.just("begin"), st.integers(0, 2)),
    st.tuples(st.sampled_from(["commit", "commit", "rollback", "savepoint", "undo"]), st.integers(0, 2)),
    st.tuples(st.sampled_from(["put", "put", "put", "delete", "rekey", "xid"]), st.integers(0, 2), st.integers(0, 4)),
    st.tuples(st.just("step"), st.integers(0, 2)),
)


class Writers:
    """Three connections in transactions of their own, none of which waits for another: a statement that would is left out."""

    def __init__(self, database: Database) -> None:
        self.connections = [database.connect() for _ in range(3)]
        for connection in self.connections:
            connection.execute("SET lock_timeout = '15ms'")

    def close(self) -> None:
        for connection in self.connections:
            connection.close()

    def act(self, what: str, who: int, key: int = 0) -> None:
        connection = self.connections[who]
        inside = connection.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        words = {
            "begin": "" if inside else "BEGIN",
            "commit": "COMMIT" if inside else "",
            "rollback": "ROLLBACK" if inside else "",
            "savepoint": "SAVEPOINT here" if inside else "",
            "undo": "ROLLBACK TO here" if inside else "",
            "put": f"INSERT INTO tree VALUES ({key}, {who}, 'x') ON CONFLICT (k) DO UPDATE SET a = coalesce(tree.a, 0) + 7, b = '{who}'",
            "delete": f"DELETE FROM tree WHERE k = {key}",
            "rekey": f"UPDATE tree SET k = k + 10 WHERE k = {key}",
            "xid": "SELECT pg_current_xact_id()" if inside else "",  # a number now, and writes only later
        }[what]
        if not words:
            return
        if inside and what in ("put", "delete", "rekey"):
            with contextlib.suppress(psycopg.Error), connection.transaction():
                connection.execute(words)
        else:
            with contextlib.suppress(psycopg.Error):
                connection.execute(words)
                return
            if what == "undo":  # there was no savepoint
                connection.execute("ROLLBACK")


# A number handed out before, and committed after, what was read in between.
LATE = [("begin", 0), ("put", 0, 0), ("put", 1, 1), ("step", 0), ("commit", 0), ("step", 0)]
# A transaction that began before another writes a row after it, while a third is open in between.
CROSSED = [("begin", 0), ("xid", 0), ("begin", 2), ("put", 2, 3), ("put", 1, 1), ("put", 0, 1), ("commit", 0), ("step", 0),
           ("rollback", 2), ("step", 0)]  # fmt: skip


class Laws(unittest.TestCase):
    def play(self, how: str, history: list[Any]) -> None:
        with park(TREE, how=how) as (source, target, town):
            writers = Writers(source)
            try:
                for what, who, *key in [*history, ("step", 0)]:
                    if what != "step":
                        writers.act(what, who, *key)
                        continue
                    committed = source.rows()
                    [outcome] = town.project.step(INTO[who])
                    self.assertEqual(self.rows(INTO[who], target, town), committed)
                    entry = outcome.entry
                    self.assertEqual(0 if entry is None else entry.contradictions, 0)
            finally:
                writers.close()
            town.project.step()
            for name in INTO:
                self.assertEqual(self.rows(name, target, town), source.rows())
            self.assertTrue(all(one.ok for one in town.project.check()))

    def test_nothing_missed_in_any_interleaving(self) -> None:
        """Law 4, from change tables and from the log."""

        @given(st.lists(acts, min_size=15, max_size=50))
        @settings(max_examples=12, deadline=None, phases=WITHOUT_SHRINKING)
        def any_history(how: str, history: list[Any]) -> None:
            self.play(how, history)

        for how in ("capture", "log"):
            with self.subTest(how):
                self.play(how, LATE)
                self.play(how, CROSSED)
                any_history(how)

    def rows(self, load: str, target: Database, town: Town) -> list[Any]:
        if load == "into_postgres":
            return target.rows("copied")
        return town.rows("house" if load == "into_duckdb" else "shed", "copied")


if __name__ == "__main__":
    unittest.main()
