"""Tables that have no key: captured as they are, merged into journals and events."""

from __future__ import annotations

import json
import re
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from tests.postgres import Database
from tests.support import WITHOUT_SHRINKING, Town, examples

NOTE = "CREATE TABLE note (a INTEGER, b TEXT{})"
STORES = ("house", "shed")


def loads(of: str, *shapes: str) -> str:
    """A load of each shape into each of two embedded stores."""
    return "".join(
        f'[loads.{store}_{shape}]\nfrom = "{of}"\ninto = "{store}.{shape}"\nshape = "{shape}"\n'
        + (f'[loads.{store}_events.rules]\nnoted = ""\n' if shape == "events" else "")
        for store in STORES
        for shape in shapes
    )


class Notes(Town):
    """A table of notes, some of them equal, some of nulls."""

    def __init__(self, more: str = "", *shapes: str) -> None:
        super().__init__(NOTE.format(more), "INSERT INTO note VALUES (1, 'oak'), (1, 'oak'), (NULL, NULL)")
        stores = "".join(f'[stores.{one}]\nurl = "{url}"\n' for one, url in (
            ("town", "sqlite:///town.db"), ("house", "duckdb:///house.duckdb"), ("shed", "sqlite:///shed.db")))  # fmt: skip
        self.config.write_text(stores + loads("town.note", *(shapes or ("journal",))))


values = st.tuples(st.none() | st.integers(0, 2), st.none() | st.sampled_from(["oak", "elm", "n1:a"]))
statements = st.one_of(
    st.builds("INSERT INTO note (a, b) VALUES ({0[0]}, {0[1]!r});".format, values),
    st.builds("INSERT OR REPLACE INTO note (rowid, a, b) VALUES ({1}, {0[0]}, {0[1]!r});".format, values, st.integers(1, 6)),
    st.builds("UPDATE note SET a = {0[0]}, b = {0[1]!r} WHERE rowid % 3 = {1};".format, values, st.integers(0, 2)),
    st.builds("UPDATE note SET rowid = rowid + 100 WHERE rowid % 5 = {};".format, st.integers(0, 4)),
    st.builds("DELETE FROM note WHERE rowid % 4 = {};".format, st.integers(0, 3)),
    st.sampled_from(["DELETE FROM note;", "VACUUM;", "UPDATE note SET b = b || '!' WHERE length(b) < 6;"]),
)  # fmt: skip
TRIGGER = "CREATE TRIGGER own AFTER INSERT ON note BEGIN UPDATE note SET b = 'seen' WHERE rowid = NEW.rowid; END"


class Sqlite(unittest.TestCase):
    @given(
        st.lists(st.lists(statements, max_size=5), max_size=5),
        st.booleans(),
        st.sampled_from(["", "DELETE FROM note WHERE rowid = 2; CREATE UNIQUE INDEX u ON note (a, b);"]),
    )
    @settings(max_examples=examples(20), deadline=None, phases=WITHOUT_SHRINKING)
    def test_the_journal_comes_to_the_table(self, windows: list[list[str]], trigger: bool, unique: str) -> None:
        """Whatever is written, and wherever it is cut: as many of each row as there are, and each change a change."""
        with Notes() as town:
            if unique:
                town.shell(unique)
            if trigger:
                town.sql(TRIGGER)
            town.project.capture_on("town.note", None)
            town.project.step()
            for window in windows:
                town.shell("".join(window).replace("None", "NULL"))
                waiting = town.project.status()[0].waiting
                for outcome in town.project.step():
                    self.assertEqual(outcome.changes, waiting)
                    self.assertEqual(outcome.edits.get("append", 0), waiting)
                for check in town.project.check():
                    self.assertTrue(check.ok, check)
                    self.assertEqual(check.source_rows, len(town.rows("town", "note")))
            self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})

    def test_what_needs_a_key_is_refused_and_each_remedy_works(self) -> None:
        with Notes("", "journal", "mirror", "history", "events") as town:
            told = town.run("capture", "on", "town.note")
            self.assertEqual((told.exit_code, "--no-key" in told.output), (4, True), told.output)
            self.assertEqual(town.run("capture", "on", "town.note", "--no-key").exit_code, 0)
            self.assertEqual(town.run("capture", "on", "town.note", "--no-key", "--key", "a").exit_code, 2)
            self.assertIn("none", town.run("capture", "list").output)
            outcomes = {one.load: one for one in town.project.step(raise_errors=False)}
            for store in STORES:
                self.assertEqual(outcomes[f"{store}_journal"].outcome, "stepped")
                self.assertEqual(outcomes[f"{store}_events"].outcome, "stepped")
                for shape in ("mirror", "history"):
                    self.assertIn("captured without a key", str(outcomes[f"{store}_{shape}"].error))
            self.assertEqual({one.health for one in town.project.status("house_mirror", "shed_history")}, {"refuses"})
            town.sql("UPDATE note SET b = 'elm' WHERE a = 1")
            for words, status in (
                (("trace", "house_journal", "1"), 2),
                (("look", "house_journal", "--key", "1"), 2),
                (("restore", "house_journal", "--after", "start", "-o", "back.sql"), 4),
                (("check", "house_journal"), 4),  # changes wait
                (("look", "house_journal", "--where", "now.b = 'elm'"), 0),  # as look --key says
                (("look", "house_journal"), 0),
                (("net", "house_journal"), 0),
            ):
                told = town.run(*words)
                self.assertEqual(told.exit_code, status, told.output)
                self.assertNotIn("plainstep.row", told.output)
            [change, other] = json.loads(town.run("look", "house_journal", "--json").output)["changes"]
            self.assertEqual(
                (change["key"], change["was"], other["now"]), ({}, {"a": 1, "b": "oak"}, {"a": 1, "b": "elm"})
            )
            town.project.step("house_journal", "shed_journal", "house_events")
            self.assertEqual(town.run("check", "house_journal", "shed_journal").exit_code, 0)
            # Changes that were lost: reload appends what makes up for them.
            town.sql("UPDATE note SET b = 'ash' WHERE rowid = 1", "DELETE FROM note WHERE a IS NULL",
                     "DELETE FROM plainstep_changes_note")  # fmt: skip
            told = town.run("step", "house_journal")
            self.assertEqual((told.exit_code, "capture refresh town.note" in told.output), (4, True), told.output)
            self.assertEqual(town.run("capture", "refresh", "town.note").exit_code, 0)
            for store in STORES:
                self.assertEqual(town.run("reload", f"{store}_journal").exit_code, 0)
            self.assertEqual(town.run("check", "house_journal", "shed_journal").exit_code, 0)

    def test_tables_that_have_a_key_are_captured_by_it(self) -> None:
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER)") as town:
            with self.assertRaisesRegex(plainstep.Refused, "has the primary key k"):
                town.project.capture_on("town.tree", None)
            town.sql("CREATE TABLE odd (rowid TEXT, _rowid_ TEXT, oid TEXT)", "CREATE TABLE named (rowid TEXT)")
            with self.assertRaisesRegex(plainstep.Refused, "has columns named rowid, _rowid_, oid"):
                town.project.capture_on("town.odd", None)
            self.assertEqual(town.project.capture_on("town.named", None)[0].columns, ("rowid",))
            town.sql("ALTER TABLE odd RENAME COLUMN oid TO other")
            self.assertEqual(town.project.capture_on("town.odd", None)[0].key, ())

    def test_the_ways_out_of_a_shape_that_needs_a_key(self) -> None:
        with Town("CREATE TABLE tag (k INTEGER NOT NULL UNIQUE, b TEXT)", "INSERT INTO tag VALUES (1, 'oak')") as town:
            load = '[loads.tag]\nfrom = "town.tag"\ninto = "house.tag"\non_bad_value = "quarantine"\n'
            town.config.write_text(
                '[stores.town]\nurl = "sqlite:///town.db"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n' + load
            )
            self.assertEqual(town.run("capture", "on", "town.tag", "--no-key").exit_code, 0)
            told = town.run("step")
            self.assertEqual((told.exit_code, "Set on_bad_value to refuse, round or null" in told.output), (4, True))
            town.config.write_text(town.config.read_text().replace("quarantine", "null"))
            told = town.run("step")
            self.assertEqual((told.exit_code, 'Set shape = "journal"' in told.output), (4, True), told.output)
            words = " ".join(told.output.split())
            off, on = (one.split() for one in re.findall(r"capture (?:off [^,]+|on [^ ]+ --key)", words))
            whole = town.config.read_text()
            town.config.write_text(whole + 'shape = "journal"\n')
            self.assertEqual(town.run("step").exit_code, 0)
            town.config.write_text(whole.replace("house.tag", "house.tags").replace("loads.tag", "loads.tags"))
            for command in (off, [*on, "k"]):
                self.assertEqual((done := town.run(*command)).exit_code, 0, done.output)
            self.assertEqual(town.run("step").exit_code, 0)
            self.assertEqual(town.rows("house", "tags"), [(1, "oak")])

    def test_columns_that_come_and_go_by_another_name(self) -> None:
        with Notes() as town:
            town.project.capture_on("town.note", None)
            town.project.step()
            town.sql("ALTER TABLE note ADD COLUMN c TEXT DEFAULT 'x'", "INSERT INTO note VALUES (3, 'fir', 'y')")
            self.assertEqual(town.run("capture", "refresh", "town.note").exit_code, 0)
            town.project.step()
            self.assertEqual([one.ok for one in town.project.check()], [True, True])
            town.sql("ALTER TABLE note RENAME COLUMN b TO species", "INSERT INTO note VALUES (4, 'yew', 'z')")
            told = town.run("capture", "refresh", "town.note")
            self.assertIn("begun anew, because b was renamed to species", told.output)
            for name in town.project.loads:
                town.project.reload(name)
            self.assertEqual([one.ok for one in town.project.check()], [True, True])


class Postgresql(unittest.TestCase):
    def test_journals_from_triggers_and_from_the_log(self) -> None:
        for how in ("capture", "log"):
            note = NOTE.format("").replace("INTEGER", "int")
            with self.subTest(how), Database(note) as source, Town() as town:
                source.sql("INSERT INTO note VALUES (1, 'oak'), (1, 'oak'), (NULL, NULL)")
                stores = f'[stores.source]\nurl = "{source.url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n[stores.shed]\nurl = "sqlite:///shed.db"\n'
                made = loads("source.public.note", "journal").replace("shape =", f'changes = "{how}"\nshape =')
                town.config.write_text(stores + made)
                on = ("capture", "on", "source.public.note", "--no-key", "--how", how)
                told = town.run(*on)
                if how == "log":  # without a replica identity, the application could not update its table
                    self.assertEqual((told.exit_code, "REPLICA IDENTITY FULL" in told.output), (4, True), told.output)
                    source.sql("ALTER TABLE public.note REPLICA IDENTITY FULL")
                    told = town.run(*on)
                self.assertEqual(told.exit_code, 0, told.output)
                town.project.step()
                for statement in (
                    "UPDATE note SET b = 'elm' WHERE a = 1",
                    "BEGIN; INSERT INTO note SELECT n, 'new' FROM generate_series(1, 3) n; DELETE FROM note WHERE a IS NULL; COMMIT",
                    "BEGIN; TRUNCATE note; INSERT INTO note VALUES (7, 'ash'), (7, 'ash'); UPDATE note SET a = 8; COMMIT",
                    "ALTER TABLE note ADD COLUMN c int DEFAULT 5",
                    "INSERT INTO note VALUES (9, NULL, 1)",
                    "ALTER TABLE note RENAME COLUMN b TO species",
                    "UPDATE note SET species = 'yew' WHERE a = 8",
                ):
                    source.sql(statement)
                    town.run("capture", "refresh", "source.public.note", "--how", how)
                    if "refused" in {one.outcome for one in town.project.step(raise_errors=False)}:
                        self.assertIn("ALTER", statement)
                        for name in town.project.loads:
                            town.project.reload(name)
                    for check in town.project.check():
                        self.assertTrue(check.ok, (statement, check))

    def test_a_trigger_of_the_applications_is_refused(self) -> None:
        """Without a key, nothing tells in which order what it did to a row came; the log does."""
        with Database(NOTE.format("").replace("INTEGER", "int")) as source, Town() as town:
            town.config.write_text(
                f'[stores.source]\nurl = "{source.url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'
                '[loads.note]\nfrom = "source.public.note"\ninto = "house.note"\nshape = "journal"\n'
            )
            source.sql(
                "CREATE FUNCTION again() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN "
                "UPDATE note SET b = 'seen' WHERE b = 'new'; RETURN NULL; END$$",
            )
            self.assertEqual(town.run("capture", "on", "source.public.note", "--no-key").exit_code, 0)
            town.project.step()
            source.sql(
                "CREATE TRIGGER again AFTER INSERT ON note EXECUTE FUNCTION again()",
                "INSERT INTO note VALUES (1, 'new')",
            )
            told = town.run("step")
            self.assertEqual((told.exit_code, "the trigger again" in told.output), (4, True), told.output)
            self.assertEqual(town.project.status()[0].health, "refuses")
            told = town.run("capture", "refresh", "source.public.note")  # what is held is not given up for nothing
            self.assertEqual(told.exit_code, 4, told.output)
            source.sql(re.findall(r"DROP TRIGGER again ON [^;]+", told.output)[0])
            source.sql("CREATE TABLE part (a int, b text) PARTITION BY LIST (a)", "CREATE TABLE part_1 PARTITION OF part FOR VALUES IN (1)",
                       "CREATE TRIGGER again AFTER INSERT ON part_1 FOR EACH ROW EXECUTE FUNCTION again()")  # fmt: skip
            told = town.run("capture", "on", "source.public.part", "--no-key")
            self.assertEqual(
                (told.exit_code, "DROP TRIGGER again ON public.part_1" in told.output), (4, True), told.output
            )
            self.assertEqual(town.run("step").exit_code, 0)
            self.assertTrue(town.project.check()[0].ok)
            # The other way out that is named: the log knows the order.
            source.sql("CREATE TRIGGER again AFTER INSERT ON note EXECUTE FUNCTION again()")
            told = town.run("step")
            on, off = re.findall(r"plainstep (capture on [^,]+|capture off [^ ]+)", " ".join(told.output.split()))
            source.sql("ALTER TABLE note REPLICA IDENTITY FULL")
            self.assertEqual((done := town.run(*on.split())).exit_code, 0, done.output)
            town.config.write_text(town.config.read_text() + re.findall('changes = "log"', told.output)[0] + "\n")
            source.sql("INSERT INTO note VALUES (2, 'new')")
            told = town.run("step")
            self.assertIn("plainstep reload note", told.output)
            self.assertEqual(town.run("reload", "note").exit_code, 0)
            self.assertEqual((done := town.run(*off.split(), "--yes")).exit_code, 0, done.output)
            source.sql("INSERT INTO note VALUES (3, 'new')")
            self.assertEqual(town.run("step").exit_code, 0)
            self.assertTrue(town.project.check()[0].ok)
