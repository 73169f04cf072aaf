"""MariaDB's binary log: nothing is missed, whatever writers, schemas, settings and servers do; what is not told is refused."""

from __future__ import annotations

import contextlib
import random
import threading
import time
import unittest
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from unittest import mock

import pymysql
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.stores.mysql import wire
from plainstep.stores.mysql.log import events
from plainstep.stores.mysql.log.mariadb import MariadbLog
from plainstep.stores.mysql.log.statements import Effect, effect_of
from tests import mariadb
from tests.mariadb import Database, Server
from tests.mariadb_values import EVERY, MADE, made
from tests.support import WITHOUT_SHRINKING, Town, examples

TREE = "CREATE TABLE tree (k INT PRIMARY KEY, a INT, b VARCHAR(40))"
STORES = "[stores.town]\nurl = '{url}'\nwait = 2\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
LOAD = "[loads.tree]\nfrom = 'town.tree'\ninto = 'house.tree'\nchanges = 'log'\n"
CAPTURED = LOAD.replace("'log'", "'capture'")


@contextmanager
def followed(*statements: str, of: Server | None = None, loads: str = LOAD) -> Iterator[tuple[Database, Town]]:
    """A database, and a town with a mirror of its table that has begun."""
    with Database(*(statements or (TREE,)), of=of) as source, Town() as town:
        town.config.write_text(STORES.format(url=source.url) + loads)
        for load in town.project.loads.values():
            town.project.capture_on(load.config.source, how=load.config.changes)
        town.project.step()
        yield source, town


class Log(unittest.TestCase):
    def equal(self, town: Town, source: Database, table: str = "tree") -> None:
        """After a step, the mirror is the table, and status and check say so."""
        for outcome in town.project.step():
            self.assertIn(outcome.outcome, ("stepped", "nothing"))
        self.assertEqual(town.rows("house", table), source.rows(table))
        self.assertTrue(all(one.ok for one in town.project.check()))
        self.assertEqual({one.health for one in town.project.status()}, {"ok"})
        self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})

    def refused(self, town: Town, source: Database, words: str) -> None:
        """A step is refused, with words; after a reload all is well."""
        [outcome] = town.project.step(raise_errors=False)
        self.assertEqual(outcome.outcome, "refused", outcome)
        self.assertRegex(" ".join(str(outcome.error).split()), words)
        self.assertIn("reload", str(outcome.error))
        town.project.reload("tree")
        self.assertEqual(town.project.step()[0].outcome, "nothing")
        self.assertTrue(town.project.check()[0].ok)
        self.assertEqual(town.project.status()[0].health, "ok")


class Writing(Log):
    """Whoever writes, in whatever order they commit."""

    loads = LOAD

    WORDS = {
        "put": "INSERT INTO tree VALUES ({k}, {w}, 'x') ON DUPLICATE KEY UPDATE a = coalesce(a, 0) + 7, b = '{w}'",
        "replace": "REPLACE INTO tree VALUES ({k}, {w}, NULL)",
        "delete": "DELETE FROM tree WHERE k = {k}",
        "rekey": "UPDATE IGNORE tree SET k = k + 10 WHERE k = {k}",
        "all": "UPDATE tree SET a = a + 1 WHERE k < 5",
        "joined": "UPDATE tree t JOIN tree u ON u.k = t.k + 1 SET t.a = u.a, u.b = 'j' WHERE t.k = {k}",
        "both": "DELETE t, u FROM tree t JOIN tree u ON u.k = t.k + 1 WHERE t.k = {k}",
        "selected": "INSERT IGNORE INTO tree SELECT k + 20, a, b FROM tree WHERE k = {k}",
        "begin": "BEGIN", "commit": "COMMIT", "rollback": "ROLLBACK", "savepoint": "SAVEPOINT s", "undo": "ROLLBACK TO s",
    }  # fmt: skip
    ACTS = st.lists(st.tuples(st.sampled_from([*WORDS, "step"]), st.integers(0, 2), st.integers(0, 9)), max_size=40)

    @settings(
        max_examples=examples(12), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(ACTS)
    def test_nothing_is_missed(self, acts: list[tuple[str, int, int]]) -> None:
        """Law 4: over writers whose transactions interleave, with steps in between."""
        with followed(loads=self.loads) as (source, town):
            writers = [source.connect() for _ in range(3)]
            for writer in writers:
                writer.cursor().execute("SET innodb_lock_wait_timeout = 0")
            for word, who, key in acts:
                if word == "step":
                    self.assertIn(town.project.step()[0].outcome, ("stepped", "nothing"))
                    self.assertTrue(town.project.check()[0].ok)
                    continue
                with contextlib.suppress(pymysql.Error):
                    writers[who].cursor().execute(self.WORDS[word].format(k=key, w=who))
            for writer in writers:
                writer.close()
            self.equal(town, source)

    def test_every_type(self) -> None:
        """Values of every type arrive as a SELECT tells them, from plain and from compressed events."""
        for compressed in ("OFF", "ON"):
            chance = random.Random(5)
            with followed(EVERY, loads=self.loads) as (source, town):
                source.sql(f"SET GLOBAL log_bin_compress = {compressed}")
                for _ in range(3):
                    self._put(source, [made(chance, chance.randrange(60)) for _ in range(40)])
                    source.sql(
                        "UPDATE tree SET i4 = i4 + 1, t = NULL WHERE k % 3 = 0", "DELETE FROM tree WHERE k % 7 = 1"
                    )
                    self.assertEqual(town.project.step()[0].outcome, "stepped")
                    self.assertTrue(town.project.check()[0].ok)
                source.sql("SET GLOBAL log_bin_compress = OFF")

    def _put(self, source: Database, rows: list[list[Any]]) -> None:
        names = list(MADE)
        with source.connect(autocommit=False) as connection, connection.cursor() as cursor:
            cursor.execute("SET time_zone = '+00:00'")
            cursor.executemany(
                f"REPLACE INTO tree ({', '.join(names)}) VALUES ({', '.join(['%s'] * len(names))})", rows
            )
            connection.commit()

    def test_a_transaction_of_many_rows(self) -> None:
        with followed(loads=self.loads) as (source, town):
            source.sql("INSERT INTO tree SELECT seq, seq % 9, concat('oak ', seq) FROM seq_1_to_200000")
            source.sql("UPDATE tree SET a = a + 1 WHERE k % 2 = 0", "DELETE FROM tree WHERE k % 5 = 0")
            [outcome] = town.project.step()
            self.assertEqual(outcome.changes, 200_000 + 100_000 + 40_000)
            self.assertTrue(town.project.check()[0].ok)

    def test_several_loads_of_a_group_begin_at_one_moment(self) -> None:
        other = self.loads.replace("tree", "ward") + '[groups.all]\nloads = ["tree", "ward"]\n'
        with followed(TREE, TREE.replace("tree", "ward"), loads=self.loads + other) as (source, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')", "INSERT INTO ward VALUES (2, 2, 'elm')")
            spooled = mock.patch("plainstep.stores.mysql.wire.IN_MEMORY", 0)
            with spooled, mock.patch.object(MariadbLog, "packets", side_effect=MariadbLog().packets) as reading:
                town.project.step()
            self.assertEqual(reading.call_count, int("'log'" in self.loads), "both are read at once")
            self.equal(town, source)
            self.assertEqual(town.rows("house", "ward"), source.rows("ward"))


class CapturedWriting(Writing):
    """The same, recorded by triggers."""

    loads = CAPTURED


class Positions(Log):
    def test_positions_and_times(self) -> None:
        with followed() as (source, town):
            for key in range(3):
                source.sql(f"INSERT INTO tree VALUES ({key}, 1, 'oak')")
            looked = town.project.look("tree").changes.table
            positions = looked["position"].to_pylist()
            self.assertEqual(len({*positions}), 3)
            found = town.project.look("tree", after=positions[0], upto=positions[1])
            self.assertEqual(found.changes.table["now.k"].to_pylist(), [1])
            self.assertRaisesRegex(plainstep.PlainStepError, "not a position", town.project.look, "tree", after="17-x")


class Schemas(Log):
    """What becomes of the table itself."""

    def test_truncated_dropped_and_made_anew(self) -> None:
        with followed() as (source, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')")
            self.equal(town, source)
            source.sql(
                "INSERT INTO tree VALUES (3, 3, 'x')", "TRUNCATE TABLE `tree`", "INSERT INTO tree VALUES (2, 9, 'y')"
            )
            self.equal(town, source)
            source.sql("DROP TABLE tree", TREE, "INSERT INTO tree VALUES (5, 5, 'new')")
            self.equal(town, source)
            source.sql(
                "CREATE OR REPLACE TABLE tree (k INT PRIMARY KEY, a INT, b VARCHAR(40)) AS SELECT 8 AS k, 8 AS a, 'made' AS b"
            )
            self.equal(town, source)
            self.assertEqual(source.rows(), [(8, 8, "made")])

    def test_columns_that_come_and_go(self) -> None:
        with followed() as (source, town):
            source.sql(
                "INSERT INTO tree VALUES (1, 1, 'oak')", "ALTER TABLE tree ADD COLUMN c DECIMAL(8,2), ADD INDEX (a)"
            )
            source.sql(
                "INSERT INTO tree VALUES (2, 2, 'elm', 1.5)", "ALTER TABLE tree ADD COLUMN `first` INT NULL FIRST"
            )
            source.sql("UPDATE tree SET c = 3, `first` = k")
            town.project.step()
            self.assertTrue(town.project.check()[0].ok)
            source.sql(
                "UPDATE tree SET a = 7 WHERE k = 1", "ALTER TABLE tree DROP COLUMN a", "DELETE FROM tree WHERE k = 2"
            )
            town.project.step()
            self.assertTrue(town.project.check()[0].ok)

    def test_a_run_that_lasts_sees_what_came(self) -> None:
        for loads in (LOAD, CAPTURED):
            with followed(loads=loads) as (source, town):
                project = town.project  # one, as a run has it
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                self.assertEqual(project.step()[0].outcome, "stepped")
                source.sql("ALTER TABLE tree ADD COLUMN c INT", "INSERT INTO tree VALUES (2, 2, 'elm', 5)")
                if loads == CAPTURED:
                    town.project.capture_refresh("town.tree")
                self.assertEqual(project.step()[0].outcome, "stepped")
                self.equal(town, source)
                source.sql(
                    "CREATE TABLE park (k INT PRIMARY KEY)", "INSERT INTO park VALUES (5)",
                    "ALTER TABLE tree ADD FOREIGN KEY (c) REFERENCES park (k) ON DELETE CASCADE", "DELETE FROM park",
                )  # fmt: skip
                [outcome] = project.step(raise_errors=False)
                self.assertEqual(outcome.outcome, "refused")
                self.assertIn("cascades", str(outcome.error))

    def test_names_in_large_and_in_small_letters(self) -> None:
        """Another table, whose name differs by them only."""
        with followed(TREE, TREE.replace("tree", "Tree")) as (source, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')", "INSERT INTO Tree VALUES (2, 2, 'elm')")
            self.equal(town, source)
            source.sql("UPDATE Tree SET k = 1, a = 9", "TRUNCATE Tree", "DROP TABLE Tree")
            self.equal(town, source)

    def test_what_changes_rows_without_a_word_is_refused(self) -> None:
        for statement in (
            "ALTER TABLE tree ADD COLUMN c INT DEFAULT 5",
            "ALTER TABLE tree ADD COLUMN c INT NOT NULL",
            "ALTER TABLE tree MODIFY b VARCHAR(2)",
            "ALTER TABLE tree CHANGE a z BIGINT",
            "ALTER TABLE tree RENAME COLUMN a TO z",
            "RENAME TABLE tree TO gone, other TO tree",
            "ALTER TABLE other RENAME TO tree2, RENAME TO tree3",
        ):
            with self.subTest(statement), followed(TREE, TREE.replace("tree", "other")) as (source, town):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oa')", "INSERT INTO other VALUES (2, 2, 'el')")
                town.project.step()
                if "tree3" in statement:
                    source.sql("RENAME TABLE tree TO old", "ALTER TABLE other RENAME TO tree")
                else:
                    source.sql(statement)
                self.refused(town, source, "changed as a whole")

    def test_statements(self) -> None:
        """What a statement does to a table: known for certain, or not known."""
        for sql, expected in (
            ("TRUNCATE tree", Effect.TRUNCATED), ("truncate table `town`.`tree` /* all */", Effect.TRUNCATED),
            ("TRUNCATE other", Effect.NONE), ("TRUNCATE other.tree", Effect.NONE), ("TRUNCATE tree2", Effect.NONE),
            ("DROP TABLE IF EXISTS a, tree, b", Effect.TRUNCATED), ("DROP TABLE tree /* generated by server */", Effect.TRUNCATED),
            ("DROP TEMPORARY TABLE IF EXISTS tree", Effect.NONE), ("DROP INDEX x ON tree", Effect.NONE), ("DROP VIEW treeview", Effect.NONE),
            ("CREATE TABLE copy AS SELECT * FROM tree", Effect.NONE), ("CREATE TABLE tree LIKE other", Effect.NONE),
            ("CREATE OR REPLACE TABLE tree (k INT)", Effect.TRUNCATED), ("CREATE TRIGGER t AFTER INSERT ON tree FOR EACH ROW DELETE FROM x", Effect.NONE),
            ("ALTER TABLE tree ADD KEY (a)", Effect.COLUMNS), ("ALTER TABLE tree ADD c INT", Effect.COLUMNS),
            ("ALTER TABLE tree ADD (c INT, d INT)", Effect.UNKNOWN), ("ALTER TABLE tree ADD c INT DEFAULT 1", Effect.UNKNOWN),
            ("ALTER TABLE tree ADD c INT DEFAULT NULL COMMENT 'a, b'", Effect.COLUMNS), ("ALTER TABLE tree DROP c, ADD d TEXT", Effect.COLUMNS),
            ("ALTER TABLE tree DROP PRIMARY KEY", Effect.UNKNOWN), ("ALTER TABLE tree DROP PARTITION p0", Effect.UNKNOWN),
            ("ALTER TABLE tree ADD CONSTRAINT x FOREIGN KEY (a) REFERENCES y (a) ON DELETE CASCADE", Effect.UNKNOWN),
            ("ALTER TABLE tree ADD INDEX (a), ADD FOREIGN KEY x (a) REFERENCES y (a)", Effect.UNKNOWN),
            ("ALTER TABLE part EXCHANGE PARTITION p WITH TABLE tree", Effect.UNKNOWN), ("ALTER TABLE x ADD treehouse INT", Effect.NONE),
            ("RENAME TABLE x TO tree", Effect.UNKNOWN), ("DROP DATABASE town", Effect.TRUNCATED), ("DROP DATABASE other", Effect.NONE),
            ("UPDATE anything SET x = 1", Effect.AS_STATEMENT), ("/* c */ insert into x values (1)", Effect.AS_STATEMENT),
            ("BEGIN", Effect.NONE), ("COMMIT", Effect.NONE), ("GRANT ALL ON tree TO x", Effect.NONE), ("# Dum", Effect.NONE),
        ):  # fmt: skip
            self.assertEqual(effect_of(sql, "town", "town", "tree"), expected, sql)
        self.assertEqual(effect_of("TRUNCATE tree", "other", "town", "tree"), Effect.NONE)
        for folds, expected in ((False, Effect.NONE), (True, Effect.TRUNCATED)):
            self.assertEqual(effect_of("TRUNCATE Tree", "town", "town", "tree", folds), expected)
        self.assertEqual(effect_of("TRUNCATE town.tree", "other", "town", "tree"), Effect.TRUNCATED)


class Sessions(Log):
    """What sessions and settings make of the log."""

    def test_transactions_that_are_prepared(self) -> None:
        for end in ("XA COMMIT", "XA ROLLBACK"):
            with self.subTest(end), followed() as (source, town):
                name = f"'{uuid.uuid4().hex}'"
                source.sql(
                    f"XA START {name}", "INSERT INTO tree VALUES (1, 1, 'late')", f"XA END {name}", f"XA PREPARE {name}"
                )
                source.sql("INSERT INTO tree VALUES (2, 2, 'oak')")
                [outcome] = town.project.step(raise_errors=False)
                self.assertIn("is prepared, and neither committed nor rolled back", str(outcome.error))
                self.assertIn("XA RECOVER", str(outcome.error))
                source.sql(f"{end} {name}", "UPDATE tree SET a = a + 1")
                self.equal(town, source)

    def test_a_transaction_that_was_prepared_before_the_first_load(self) -> None:
        with Database(TREE) as source, Town() as town:
            town.config.write_text(STORES.format(url=source.url) + LOAD)
            name = f"'{uuid.uuid4().hex}'"
            source.sql(
                f"XA START {name}", "INSERT INTO tree VALUES (1, 1, 'late')", f"XA END {name}", f"XA PREPARE {name}"
            )
            town.project.step()
            source.sql(f"XA COMMIT {name}")
            self.refused(town, source, "prepared before .* was read")

    def test_tables_of_which_the_log_does_not_tell_all(self) -> None:
        for statements, words in (
            (("CREATE TABLE ward (w INT PRIMARY KEY)", "CREATE TABLE tree (k INT PRIMARY KEY, w INT, FOREIGN KEY (w) REFERENCES ward (w) ON DELETE CASCADE)"), "cascades"),
            (("CREATE TABLE tree (k INT PRIMARY KEY) WITH SYSTEM VERSIONING",), "versioned by the server"),
            (("CREATE TABLE trees (k INT PRIMARY KEY)", "CREATE VIEW tree AS SELECT * FROM trees"), "is a view"),
            (("CREATE TABLE tree (k INT)",), "no primary key"),
            (("CREATE TABLE tree (k INT PRIMARY KEY, d DATE)",), "the log holds date"),
            (("CREATE TABLE tree (k INT PRIMARY KEY) ENGINE = Aria",), "kept by Aria"),
        ):  # fmt: skip
            with self.subTest(words), Database(*statements) as source, Town() as town:
                town.config.write_text(
                    STORES.format(url=source.url) + LOAD + ("types = { d = 'TEXT' }" if "date" in words else "")
                )
                self.assertIn(words, str(town.project.step(raise_errors=False)[0].error))
                if words == "cascades":  # what it names works
                    town.config.write_text(town.config.read_text().replace("'log'", "'diff'"))
                    source.sql("INSERT INTO ward VALUES (1)", "INSERT INTO tree VALUES (1, 1)")
                    town.project.step()
                    source.sql("DELETE FROM ward")
                    self.equal(town, source)

    def test_a_role_with_the_privileges_that_are_named(self) -> None:
        with Database(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')") as source, Town() as town:
            name = f"reader_{uuid.uuid4().hex[:8]}"
            source.sql(f"CREATE USER {name}@'%'", f"GRANT SELECT ON {source.name}.tree TO {name}@'%'")
            self.addCleanup(mariadb.Database().sql, f"DROP USER {name}@'%'")
            town.config.write_text(STORES.format(url=source.server.url(source.name, name)) + LOAD)
            told = str(town.project.step(raise_errors=False)[0].error)
            self.assertIn("may not read the server's log", told)
            source.sql(told.splitlines()[-1].rstrip(";"))
            self.equal(town, source)


class Killed(Log):
    def test_connections_that_are_killed(self) -> None:
        """Somebody ends connections at random while steps read the log and merge into the same server: nothing is lost or doubled."""
        loads = LOAD + "[loads.copy]\nfrom = 'town.tree'\ninto = 'town.copied'\nchanges = 'log'\n"
        with followed(loads=loads) as (source, town):
            stop = threading.Event()

            def kill() -> None:
                chance = random.Random(3)
                with source.connect() as connection, connection.cursor() as cursor:
                    while not stop.is_set():
                        time.sleep(chance.random() * 0.1)
                        cursor.execute(
                            "SELECT id FROM information_schema.processlist WHERE db = database() AND id <> connection_id()"
                        )
                        for (number,) in cursor.fetchall():
                            with contextlib.suppress(pymysql.Error):
                                cursor.execute(f"KILL {'QUERY' if chance.random() < 0.3 else ''} {number}")

            killer = threading.Thread(target=kill)
            killer.start()
            told = set()
            for turn in range(8):
                with contextlib.suppress(pymysql.Error):
                    source.sql(
                        f"REPLACE INTO tree SELECT seq, {turn}, 'oak' FROM seq_1_to_300",
                        f"DELETE FROM tree WHERE k % 25 = {turn}",
                    )
                told |= {one.outcome for one in town.project.step(raise_errors=False)}
            stop.set()
            killer.join()
            self.assertLessEqual(told, {"stepped", "nothing", "failed", "refused"})
            self.equal(town, source)
            self.assertEqual(source.rows("copied"), source.rows())
            refused = [one.note for one in town.project.ledger("copy") if one.kind == "refused"]
            self.assertLessEqual({"was lost while" in note for note in refused}, {True}, refused)
            steps = [one.step for one in town.project.ledger("copy") if one.kind != "refused"]
            self.assertEqual(steps, list(range(1, len(steps) + 1)))


class Servers(Log):
    """What becomes of servers and their logs; on servers of their own."""

    own: Server

    @classmethod
    def setUpClass(cls) -> None:
        mariadb.server()  # skips where there is none
        cls.own = Server(**{"gtid-domain-id": "3"})

    def test_a_server_that_dies(self) -> None:
        with followed(of=self.own) as (source, town):
            source.sql(
                "INSERT INTO tree VALUES (1, 1, 'oak')",
                "SET GLOBAL sync_binlog = 1",
                "SET GLOBAL innodb_flush_log_at_trx_commit = 1",
            )
            town.project.step()
            source.sql("INSERT INTO tree VALUES (2, 2, 'elm')", "FLUSH BINARY LOGS", "UPDATE tree SET a = 5")
            self.own.kill()
            [outcome] = town.project.step(raise_errors=False)
            self.assertEqual(outcome.outcome, "failed")
            self.own.start()
            source.sql("DELETE FROM tree WHERE k = 1")
            self.equal(town, source)

    def test_all_that_the_log_holds(self) -> None:
        with followed(of=self.own) as (source, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')", "UPDATE tree SET a = 2")
            for after in ("start", "1h"):
                self.assertEqual(len(town.project.look("tree", after=after).changes), 2)

    def test_logs_that_are_purged_or_reset(self) -> None:
        for statements, words in (
            (("FLUSH BINARY LOGS", "INSERT INTO tree VALUES (3, 3, 'lost')", "FLUSH BINARY LOGS", "PURGE"), "begins later"),
            (("RESET MASTER",), "does not hold|cannot be read from where"),
            (("RESET MASTER", *(f"INSERT INTO tree VALUES ({key}, 1, 'again')" for key in range(10, 40))), "does not hold|cannot be read from where"),
        ):  # fmt: skip
            with self.subTest(words=words), followed(of=self.own) as (source, town):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                town.project.step()
                source.sql("INSERT INTO tree VALUES (2, 2, 'elm')", *(one for one in statements if one != "PURGE"))
                if "PURGE" in statements:
                    self._purge(source)
                source.sql("INSERT INTO tree VALUES (9, 9, 'new')")
                self.refused(town, source, words)

    def _purge(self, source: Database) -> None:
        """Have the server forget all but its newest log. (It does so only when its engine has written what the others hold.)"""
        with source.connect() as connection, connection.cursor() as cursor:
            for _ in range(100):
                cursor.execute("SHOW BINARY LOGS")
                names = [row[0] for row in cursor.fetchall()]
                if len(names) == 1:
                    return
                cursor.execute(f"PURGE BINARY LOGS TO '{names[-1]}'")
                time.sleep(0.05)
        raise AssertionError(names)

    def test_what_is_not_logged_in_full_is_refused(self) -> None:
        for setting, words in (
            ("SET SESSION binlog_format = 'STATEMENT'", "logged a statement instead of the rows"),
            ("SET SESSION binlog_row_image = 'MINIMAL'", "only some of its columns"),
            ("SET SESSION binlog_row_image = 'NOBLOB'", "stepped"),
        ):
            with self.subTest(setting), followed(of=self.own) as (source, town):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                town.project.step()
                source.sql(setting, "UPDATE tree SET a = 2")
                if words == "stepped":  # there is no blob here: every column is logged
                    self.equal(town, source)
                else:
                    self.refused(town, source, words)

    def test_settings_that_are_wanted(self) -> None:
        for setting, plain in (
            ("binlog_row_metadata", "NO_LOG"),
            ("binlog_row_image", "MINIMAL"),
            ("binlog_format", "MIXED"),
        ):
            with self.subTest(setting), Database(TREE, of=self.own) as source, Town() as town:
                source.sql(f"SET GLOBAL {setting} = '{plain}'")
                town.config.write_text(STORES.format(url=source.url) + LOAD)
                told = str(town.project.step(raise_errors=False)[0].error)
                self.assertIn(f"has {setting} = {plain}", told)
                source.sql(told.splitlines()[-1].partition(";")[0])
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                self.equal(town, source)

    def test_another_server_takes_over(self) -> None:
        """A replica that has the same transactions is gone on from; one that has not is refused."""
        other = Server(**{"server-id": "18", "log-slave-updates": "ON", "gtid-domain-id": "3"})
        with followed(of=self.own) as (source, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            town.project.step()
            with contextlib.closing(other.connect()) as connection, connection.cursor() as cursor:
                cursor.execute(
                    f"CHANGE MASTER TO master_host = '127.0.0.1', master_port = {self.own.port}, master_user = 'root', "
                    "master_use_gtid = slave_pos"
                )
                with contextlib.closing(self.own.connect()) as here, here.cursor() as asked:
                    asked.execute("SELECT @@gtid_binlog_pos")
                    [position] = asked.fetchone()
                taken_over = Database.of_name(source.name, other)
                cursor.execute(f"CREATE DATABASE {source.name} CHARACTER SET utf8mb4")
                taken_over.sql(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')")
                cursor.execute("RESET MASTER")
                cursor.execute(f"SET GLOBAL gtid_slave_pos = '{position}'")
                text = town.config.read_text()
                town.config.write_text(text.replace(source.url, taken_over.url))
                self.assertIn("does not hold", str(town.project.step(raise_errors=False)[0].error))
                town.config.write_text(text)
                cursor.execute("START SLAVE")
                source.sql("INSERT INTO tree VALUES (2, 2, 'elm')")
                town.project.step()
                source.sql("UPDATE tree SET a = 7")
                cursor.execute("SELECT master_gtid_wait(%s, 20)", [self._position(self.own)])
                cursor.execute("STOP SLAVE")
                taken_over.sql("INSERT INTO tree VALUES (3, 3, 'ash')")
            town.config.write_text(text.replace(source.url, taken_over.url))
            self.equal(town, taken_over)

    def _position(self, server: Server) -> str:
        with contextlib.closing(server.connect()) as connection, connection.cursor() as cursor:
            cursor.execute("SELECT @@gtid_binlog_pos")
            return str(cursor.fetchone()[0])


class Bytes(unittest.TestCase):
    @given(st.lists(st.binary(max_size=23)), st.lists(st.integers(1, 9), min_size=1))
    def test_packets_that_come_in_parts(self, sent: list[bytes], sizes: list[int]) -> None:
        """Large ones in several packets, and whatever comes in pieces of any size."""
        stream = b""
        for one in sent:
            parts = [one[start : start + 5] for start in range(0, len(one) + 1, 5)]
            stream += b"".join(len(part).to_bytes(3, "little") + b"\0" + part for part in parts)
        held, found, at = bytearray(), [], 0
        with mock.patch("plainstep.stores.mysql.wire.FULL", 5):
            for turn in range(len(stream) + 1):
                piece = stream[: sizes[turn % len(sizes)]]
                stream = stream[len(piece) :]
                held += piece
                for start, end in wire._payloads(held, at):
                    found.append(bytes(held[start:end]))
                    at = end
        self.assertEqual(found, sent)

    def test_events_by_hand(self) -> None:
        """What the documentation of the protocol says, byte by byte."""
        body = bytes.fromhex("18000000000000000000000000") + bytes(6)
        self.assertEqual(events.transaction_of(body, 17), events.Transaction(0, 17, 24, 0))
        map_body = (
            (7).to_bytes(6, "little") + b"\x01\x00" + b"\x04town\x00" + b"\x04tree\x00" + b"\x03" + bytes([3, 15, 246])
            + b"\x04" + b"\x28\x00" + b"\x08\x02" + b"\x06" + b"\x01\x01\x80" + b"\x04\x09\x01k\x04name\x01d"
        )  # fmt: skip
        number, found = events.table_of(map_body)
        self.assertEqual((number, found.names, found.unsigned), (7, ("k", "name", "d"), (True, False, False)))
        self.assertEqual((found.database, found.table, found.metadata), ("town", "tree", (0, 40, 0x0208)))
        self.assertEqual(events.counted(b"\xfc\x01\x02", 0), (513, 3))


if __name__ == "__main__":
    unittest.main()
