"""MariaDB's tables captured by triggers: what they do not see is noticed, and what is mended is right again."""

from __future__ import annotations

import time
import unittest
import uuid
from datetime import timedelta
from pathlib import Path

from plainstep.project import Project
from tests.mariadb import Database, Server
from tests.support import Town
from tests.test_mariadb_log import CAPTURED, LOAD, STORES, TREE, followed


class Capture(unittest.TestCase):
    def mended(self, town: Town, source: Database, words: str) -> None:
        """A step is refused, with words; a refresh and a reload mend it."""
        [outcome] = town.project.step(raise_errors=False)
        self.assertEqual(outcome.outcome, "refused", outcome)
        self.assertIn(words, str(outcome.error))
        self.assertIn("plainstep capture refresh town.tree", str(outcome.error))
        town.project.capture_refresh("town.tree")
        self.assertEqual(town.project.step(raise_errors=False)[0].outcome, "refused")
        town.project.reload("tree")
        self.sound(town.project)
        source.sql("UPDATE tree SET k = k + 100")
        town.project.step()
        self.sound(town.project)

    def sound(self, project: Project) -> None:
        self.assertTrue(project.check()[0].ok)
        self.assertEqual(project.status()[0].health, "ok")

    def test_what_no_trigger_sees_is_noticed(self) -> None:
        for statements, words in (
            (("TRUNCATE tree",), "emptied by TRUNCATE"),
            (("ALTER TABLE tree MODIFY b VARCHAR(80)",), "was varchar(40)"),
            (("ALTER TABLE tree FORCE",), "written anew by ALTER TABLE"),
            (("ALTER TABLE tree DROP COLUMN b",), "no longer has the column b"),
            (
                ("DROP TRIGGER plainstep_update_tree", "UPDATE tree SET a = 9"),
                "the trigger plainstep_update_tree is gone",
            ),
            (("DELETE FROM plainstep_changes_tree",), "were cleared"),
            (("DROP TABLE plainstep_changes_tree",), "is gone"),
        ):
            with self.subTest(words), followed(loads=CAPTURED) as (source, town):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')")
                town.project.step()
                source.sql(*statements)
                if words == "is gone":
                    self.mended(town, source, "its change table plainstep_changes_tree is gone")
                else:
                    self.mended(town, source, words)

    def test_beside_the_log(self) -> None:
        """What the server logs of change tables is nothing to loads that read the log, be it of the same table."""
        both = CAPTURED + LOAD.replace("tree", "log_of_tree", 1).replace("house.tree", "house.b")
        with followed(loads=both) as (source, town):
            for number in range(3):
                source.sql(
                    f"INSERT INTO tree (k, a, b) VALUES ({number}, 1, 'oak'), ({number + 10}, 2, NULL)", "UPDATE tree SET a = a + 1",
                    f"DELETE FROM tree WHERE k = {number}", "INSERT INTO tree (k, a, b) VALUES (99, 9, 'é') ON DUPLICATE KEY UPDATE a = 10",
                )  # fmt: skip
                if number == 1:
                    source.sql("ALTER TABLE tree ADD COLUMN c INT")
                    town.project.capture_refresh("town.tree")
                    source.sql("UPDATE tree SET c = k")
                self.assertEqual({one.outcome for one in town.project.step()}, {"stepped"})
                self.assertEqual([one.ok for one in town.project.check()], [True, True])
                self.assertEqual(town.rows("house", "b"), town.rows("house", "tree"))
            town.project.trim("town", keep=timedelta(0))
            self.assertEqual({one.error for one in town.project.step()}, {None})

    def test_where_a_replica_follows(self) -> None:
        """It would stop at what the server logs of change tables; it does not, for the capture is refused."""
        server, replica = Server(), Server(**{"server-id": "18"})
        with Database(TREE, of=server) as source, Town() as town, replica.connect() as connection:
            town.config.write_text(STORES.format(url=source.url) + CAPTURED)
            cursor = connection.cursor()
            cursor.execute(
                f"CHANGE MASTER TO master_host = '127.0.0.1', master_port = {server.port}, master_user = 'root', "
                "master_log_file = 'bin.000001', master_log_pos = 4"
            )
            cursor.execute("START SLAVE")
            for _ in range(600):
                cursor.execute("SHOW SLAVE STATUS")
                if cursor.fetchone()[10] == "Yes":  # Slave_IO_Running
                    break
                time.sleep(0.1)
            refused = town.run("capture", "on", "town.tree")
            self.assertEqual(refused.exit_code, 4, refused.stderr)
            self.assertIn("follows the server of town.tree", refused.stderr)
            self.assertIn("capture on town.tree --how log", refused.stderr)
            self.assertEqual(town.run("capture", "on", "town.tree", "--how", "log").exit_code, 0)
            town.config.write_text(STORES.format(url=source.url) + LOAD)
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            town.project.step()
            self.sound(town.project)

    def test_columns_that_come(self) -> None:
        with followed(loads=CAPTURED) as (source, town):
            source.sql(
                "INSERT INTO tree VALUES (1, 1, 'oak')",
                "ALTER TABLE tree ADD COLUMN c INT DEFAULT 5",
                "UPDATE tree SET a = 2",
            )
            town.project.step()
            self.assertIn(
                "the column c of tree is not captured yet: plainstep capture refresh town.tree",
                " ".join(town.project.status()[0].warnings),
            )
            town.project.capture_refresh("town.tree")
            source.sql("INSERT INTO tree VALUES (2, 2, 'elm', 6)")
            town.project.step()
            self.assertEqual(town.rows("house"), source.rows())
            self.sound(town.project)

    def test_tables_that_cannot_be_captured(self) -> None:
        for statements, words in (
            (("CREATE TABLE ward (w INT PRIMARY KEY)", "CREATE TABLE tree (k INT PRIMARY KEY, w INT, FOREIGN KEY (w) REFERENCES ward (w) ON UPDATE CASCADE)"), "cascades"),
            (("CREATE TABLE trees (k INT PRIMARY KEY)", "CREATE VIEW tree AS SELECT * FROM trees"), "a view"),
            (("CREATE TABLE tree (k INT PRIMARY KEY) ENGINE = MyISAM",), "kept by MyISAM"),
            (("CREATE TABLE tree (k INT)",), "no primary key"),
        ):  # fmt: skip
            with self.subTest(words), Database(*statements) as source, Town() as town:
                town.config.write_text(STORES.format(url=source.url) + CAPTURED)
                with self.assertRaisesRegex(Exception, words):
                    town.project.capture_on("town.tree")

    def test_transactions_that_were_open_at_the_first_load(self) -> None:
        """What the snapshot saw is not read again, and what it did not see is: each once, in a history."""
        loads = CAPTURED + "shape = 'history'\n"
        with Database(TREE) as source, Town() as town:
            town.config.write_text(STORES.format(url=source.url) + loads)
            town.project.capture_on("town.tree")
            late = source.connect(autocommit=False)
            late.cursor().execute("INSERT INTO tree VALUES (1, 1, 'late')")
            source.sql("INSERT INTO tree VALUES (2, 2, 'seen')", "UPDATE tree SET a = 3 WHERE k = 2")
            town.project.step()
            source.sql("UPDATE tree SET a = 4 WHERE k = 2")
            self.assertEqual(town.project.step()[0].outcome, "nothing")  # it waits for what is open
            self.assertRegex(
                " ".join(town.project.status()[0].warnings),
                "wait for a transaction that is still open, of connection \\d+",
            )
            late.commit()
            town.project.step()
            versions = town.project.load("tree").target.rows(
                "tree", town.project.load("tree").target.table("tree", ()).schema
            )
            found = sorted((row["k"], row["a"]) for batch in versions for row in batch.to_pylist())
            self.assertEqual(found, [(1, 1), (2, 3), (2, 4)])
            self.sound(town.project)

    def test_erased(self) -> None:
        """What is held of a row goes, and what the server kept of it as a version, too; the others stay."""
        with followed(loads=CAPTURED) as (source, town):
            source.sql(
                "INSERT INTO tree VALUES (1, 1, 'secret'), (2, 2, 'elm')",
                "UPDATE tree SET b = 'private' WHERE k = 1",
                "DELETE FROM tree WHERE k = 1",
            )
            town.project.step()
            town.project.erase("tree", "1", really=True)
            kept = repr(source.rows("SELECT * FROM plainstep_changes_tree FOR SYSTEM_TIME ALL"))
            self.assertNotIn("secret", kept)
            self.assertNotIn("private", kept)
            self.assertIn("elm", kept)
            self.sound(town.project)

    def test_roles(self) -> None:
        """One that may write the table and owns nothing goes on as before; one that reads has what the page lists."""
        writer, reader = (f"{what}_{uuid.uuid4().hex[:8]}" for what in ("writer", "reader"))
        with followed(loads=CAPTURED) as (source, town):
            self.addCleanup(lambda: Database().sql(f"DROP USER {writer}@'%'", f"DROP USER {reader}@'%'"))
            source.sql(
                f"CREATE USER {writer}@'%'",
                f"GRANT SELECT, INSERT, UPDATE, DELETE ON {source.name}.tree TO {writer}@'%'",
            )
            with source.connect(writer) as connection, connection.cursor() as cursor:
                cursor.execute("INSERT INTO tree VALUES (1, 1, 'oak')")
                cursor.execute("UPDATE tree SET a = 2")
            source.sql(
                f"CREATE USER {reader}@'%'",
                *(one.format(db=source.name, role=f"{reader}@'%'") for one in granted("reads a captured table")),
            )
            town.config.write_text(town.config.read_text().replace("root@", f"{reader}@"))
            town.project.step()
            self.assertEqual(town.rows("house"), [(1, 2, "oak")])
            self.sound(town.project)

    def test_the_application_goes_on(self) -> None:
        """Law 12: values that could not be written today, a table that others have open, and triggers of the application."""
        table = "CREATE TABLE tree (k INT PRIMARY KEY, a INT, e ENUM('x'), d DATE)"
        audit = "CREATE TABLE audit (k INT, a INT)"
        trigger = "CREATE TRIGGER users BEFORE UPDATE ON tree FOR EACH ROW BEGIN SET NEW.a = NEW.a + 100; INSERT INTO audit VALUES (NEW.k, NEW.a); END"
        with followed(table, audit, trigger, loads=CAPTURED + "types = { d = 'TEXT' }\n") as (source, town):
            source.sql(
                "SET sql_mode = ''", "INSERT INTO tree VALUES (1, 1, 'wrong', '0000-00-00')", "UPDATE tree SET a = 5"
            )
            town.project.step()
            self.assertEqual(town.rows("house"), [(1, 105, "", "0000-00-00")])
            self.sound(town.project)
            town.project.capture_off("town.tree", really=True)
            busy = source.connect(autocommit=False)
            busy.cursor().execute("SELECT * FROM tree")
            with self.assertRaisesRegex(Exception, "in use by transactions that stay open"):
                town.project.capture_on("town.tree")
            self.assertEqual(
                source.rows("SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = database()"),
                [("users",)],
            )
            busy.rollback()
            town.project.capture_on("town.tree")


def granted(heading: str) -> list[str]:
    """The statements that docs/stores/mysql.md lists behind some words, for a role and a database."""
    page = (Path(__file__).parents[1] / "docs/stores/mysql.md").read_text(encoding="utf-8")
    block = page.partition(heading)[2].partition("```sql")[2].partition("```")[0]
    lines = [line.partition(";")[0] for line in block.splitlines() if line.startswith("GRANT")]
    return [line.replace("larkmoor", "{db}").replace("'reader'@'%'", "{role}") for line in lines]


if __name__ == "__main__":
    unittest.main()
