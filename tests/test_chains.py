"""The order of changes of one row that a trigger of the application made while a statement was running: images decide."""

from __future__ import annotations

import os
import random
import re
import unittest
from typing import Any

import pyarrow as pa
from hypothesis import example, given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.changes.batch import Changes, as_changes
from plainstep.core.changes.chains import in_chain, replaced
from plainstep.core.changes.repeats import Repeats
from tests.histories import ROW, Model, flat, histories, merged
from tests.postgres import park
from tests.sqlite_tables import KINDS, statements
from tests.support import TREE, WITHOUT_SHRINKING, Town, examples


def recorded(model: Model, units: list[int]) -> Changes:
    """The model's changes, with the transactions that they were made in."""
    changes = as_changes(flat(model.changes))
    return Changes(changes.table.append_column("txn", pa.array(units, pa.int64())))


def shuffled(changes: Changes, seed: int) -> Changes:
    """The same, the changes of each transaction in another order (truncates stay)."""
    rows = list(range(len(changes)))
    units = changes.table["txn"].to_pylist()
    ops = changes.op().tolist()
    dice = random.Random(seed)
    begin = 0
    for end in range(1, len(rows) + 1):
        if end == len(rows) or units[end] != units[begin] or ops[end] == 4 or ops[begin] == 4:
            some = rows[begin:end]
            dice.shuffle(some)
            rows[begin:end] = some
            begin = end
    table = changes.table.take(pa.array(rows, pa.int64()))
    return Changes(table.set_column(table.schema.get_field_index("seq"), "seq", changes.table["seq"]))


NULLS = {"a": None, "b": None}


class Pure(unittest.TestCase):
    # Found by the long form: a key that several rows had, one after the other in several transactions, was taken for one with
    # changes missing: it came in only because a row that moved there was recorded out of order at its old key.
    @example(
        [("insert", 3, NULLS), ("rekey", 3, 2), ("insert", 3, NULLS), ("update", 0, NULLS), ("rekey", 2, 4),
         ("rekey", 1, 2), ("delete", 0, None), ("insert", 1, NULLS)], [0, 0, 1, 0, 0, 0, 1, 1, *[1] * 32], 0,
    )  # fmt: skip
    @given(histories, st.lists(st.integers(0, 3), min_size=40, max_size=40), st.integers(0, 10**6))
    @settings(max_examples=examples(300), deadline=None)
    def test_any_order_within_a_transaction_comes_to_the_same(self, history: Any, steps: list[int], seed: int) -> None:
        """Law 1 and 2, whatever the numbers say: the rows after the window, and every row's trail through it."""
        model = Model().play([("insert", 0, {"a": 0, "b": "oak"}), ("insert", 1, {"a": 1, "b": None})])
        before = dict(model.rows)
        model.changes.clear()
        model.play(history)
        units, unit = [], 0
        for number in range(len(model.changes)):
            unit += steps[number % len(steps)] == 0
            units.append(unit)
        if not units:
            return
        told = shuffled(recorded(model, units), seed)
        repeats = Repeats(("k",), "txn")
        for begin in range(0, len(told), 3):  # batch by batch
            repeats.add(Changes(told.table.slice(begin, 3)))
        keys = repeats.keys
        found = None
        if keys is not None:
            after = pa.Table.from_pylist(list(model.rows.values()), ROW)
            standing = lambda keys: after.join(keys.cast(pa.schema([("k", pa.int64())])), "k", join_type="left semi")  # noqa: E731
            try:
                found = in_chain(told.among(keys), ("k",), "txn", standing)
            except plainstep.Refused:
                self.assertTrue(from_delete_to_delete(told))
                return
        repaired = told if found is None else replaced(told, found)
        self.assertEqual(repaired.seq().tolist(), told.seq().tolist())
        self.assertEqual(sorted(map(repr, contents(repaired))), sorted(map(repr, contents(told))))
        self.assertEqual(merged(before, plainstep.collapse(repaired, "k")), model.rows)
        # Of what a truncate ended, nothing tells where it began. From there on, each begins where the one before it ended.
        told_of = contents(repaired)
        cuts = [place for place, change in enumerate(told_of) if change["op"] == "truncate"]
        rows = {} if cuts else dict(before)
        for change in told_of[cuts[-1] + 1 if cuts else 0 :]:
            if change["was"]:
                self.assertEqual(rows.pop(change["was"]["k"], None), change["was"])
            if change["now"]:
                self.assertNotIn(change["now"]["k"], rows)
                rows[change["now"]["k"]] = change["now"]

    def test_what_is_no_trail_is_refused(self) -> None:
        model = Model().play(
            [("insert", 1, {"a": 1, "b": None}), ("update", 1, {"a": 2, "b": None}), ("update", 1, {"a": 3, "b": None})]
        )
        del model.changes[1]
        told = recorded(model, [1, 1])
        with self.assertRaisesRegex(plainstep.Refused, "the row with k 1 .* do not follow on each other"):
            in_chain(told, ("k",), "txn", None)


def from_delete_to_delete(told: Changes) -> bool:
    """Whether several changes of a row in a transaction were recorded from one delete to another: one may be missing there."""
    rows: dict[Any, list[dict[str, Any]]] = {}
    for change, unit in zip(contents(told), told.table["txn"].to_pylist(), strict=True):
        for key in {image["k"] for image in (change["was"], change["now"]) if image}:
            rows.setdefault((key, unit), []).append(change)
    return any(len(some) > 2 and some[0]["op"] != "insert" and some[-1]["op"] != "insert" for some in rows.values())


def contents(changes: Changes) -> list[dict[str, Any]]:
    from plainstep.display import records as rows

    found = rows.changes(changes, ("k",))
    return [{"op": row["op"], "was": row["was"], "now": row["now"]} for row in found]


# Triggers of an application on tree (k, a, b): each writes the table that it hangs on.
POSTGRES = {
    "only one main": """BEGIN IF NEW.a = 1 THEN UPDATE tree SET a = 0 WHERE a = 1 AND k <> NEW.k; END IF; RETURN NEW; END""",
    "make room": """BEGIN UPDATE tree SET a = a + 1 WHERE a >= NEW.a AND k <> NEW.k; RETURN NEW; END""",
    "siblings": """BEGIN UPDATE tree SET b = coalesce(b, '') || '!' WHERE k <> NEW.k AND length(coalesce(b, '')) < 9; RETURN NEW; END""",
    "set back": """BEGIN IF NEW.b = 'no' THEN UPDATE tree SET a = OLD.a, b = OLD.b WHERE k = NEW.k; END IF; RETURN NEW; END""",
}
ACTS = st.lists(
    st.tuples(st.sampled_from(["put", "all", "some", "delete", "no", "call", "rekey"]), st.integers(1, 4), st.integers(0, 3)), min_size=2, max_size=8
)  # fmt: skip
WORDS = {
    "put": "INSERT INTO tree VALUES ({0}, {1}, 'oak') ON CONFLICT (k) DO UPDATE SET a = {1}",
    "all": "UPDATE tree SET a = {1}, b = 'elm'",
    "some": "UPDATE tree SET a = a + 1 WHERE k >= {0}",
    "delete": "DELETE FROM tree WHERE k = {0}",
    "no": "UPDATE tree SET b = 'no', a = 9 WHERE k = {0}",
    "call": "UPDATE tree SET a = bumped({0}) WHERE k > {1}",
    "rekey": "UPDATE tree SET k = k + 10 WHERE k = {0} AND k + 10 NOT IN (SELECT k FROM tree)",
}
SHAPES = {
    "history": "shape = 'history'",
    "journal": "shape = 'journal'",
    "rollup": "shape = 'rollup'\nby = ['b']\nmeasures = { n = 'count(*)', s = 'sum(a)' }\nwhere = 'b is not null'",
}


class Postgresql(unittest.TestCase):
    @given(ACTS, st.lists(st.sampled_from([(name, moment, when) for name in POSTGRES for moment in ("BEFORE", "AFTER") for when in ("INSERT OR UPDATE", "UPDATE")
                                           if not (name == "set back" and (moment, when) != ("AFTER", "UPDATE"))]), min_size=1, max_size=2, unique=True))  # fmt: skip
    @settings(max_examples=examples(6), deadline=None, phases=WITHOUT_SHRINKING)
    def test_triggers_that_write_their_own_table(self, acts: Any, hung: list[tuple[str, str, str]]) -> None:
        bumped = "CREATE FUNCTION bumped(n int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN UPDATE tree SET a = a + 10 WHERE k >= n; RETURN n; END $$"
        triggers = [bumped]
        for number, (name, moment, when) in enumerate(hung):
            triggers += [
                f"CREATE FUNCTION f{number}() RETURNS trigger LANGUAGE plpgsql AS $$ {POSTGRES[name]} $$",
                f"CREATE TRIGGER z{number} {moment} {when} ON tree FOR EACH ROW WHEN (pg_trigger_depth() = 0) EXECUTE FUNCTION f{number}()",
            ]
        loads = "".join(
            f"[loads.{name}]\nfrom = 'source.public.tree'\ninto = 'house.{name}'\n{said}\n"
            for name, said in SHAPES.items()
        )
        with park("CREATE TABLE tree (k int PRIMARY KEY, a int, b text)", *triggers) as (source, target, town):
            town.config.write_text(town.config.read_text() + loads)
            source.sql("INSERT INTO tree VALUES (1, 0, 'oak'), (2, 1, 'elm'), (3, 2, NULL)")
            town.project.step()
            for what, key, value in acts:
                with source.connect() as connection:
                    try:
                        connection.execute(WORDS[what].format(key, value))
                    except Exception as error:
                        self.assertIn("already modified", str(error))  # PostgreSQL's own rule
                if key == 1:
                    town.project.step()
            town.project.step()
            self.assertEqual(target.rows("copied"), source.rows())
            self.assertEqual(
                [(one.load, one.ok) for one in town.project.check()], [(name, True) for name in town.project.loads]
            )


# A trigger of an application on tree (k, a, b), for any moment, event and condition.
BODIES = [
    "UPDATE tree SET a = coalesce(a, 0) + 1 WHERE k <> {row}.k AND coalesce(a, 0) < 9",
    "UPDATE tree SET b = 'seen' WHERE k = {row}.k AND b IS NOT 'seen'",
    "UPDATE OR REPLACE tree SET a = 1 WHERE k <> {row}.k AND a = {row}.a",
    "DELETE FROM tree WHERE k <> {row}.k AND a = {row}.a",
    "INSERT OR IGNORE INTO tree (k, a, b) VALUES ({row}.k + 5, {row}.a, {row}.b)",
    "REPLACE INTO tree (k, a, b) VALUES ({row}.k, 7, 'again')",
    "INSERT INTO other VALUES ({row}.k)",
]
MADE = st.builds(
    "CREATE {}TRIGGER {} {} {} ON tree{} BEGIN {}; END".format,
    st.just("{temporary}"), st.just("{name}"), st.sampled_from(["BEFORE", "AFTER"]), st.sampled_from(["INSERT", "UPDATE", "UPDATE OF a", "DELETE"]),
    st.sampled_from(["", " WHEN {row}.a = 1", " WHEN {row}.k < 3"]), st.sampled_from(BODIES),
)  # fmt: skip
TABLES = {name: KINDS[name] for name in ("rowid", "without rowid", "unique", "text key", "partial index", "strict")} | {
    "computed": "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT UNIQUE, c INTEGER AS (coalesce(a, 0) * 2), d TEXT AS (b || '!') STORED)",
    "itself": "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER REFERENCES tree (k) ON UPDATE CASCADE ON DELETE SET NULL, b TEXT)",
}


# Where the step may be refused: SQLite leaves undefined what a statement does to a row that its own BEFORE trigger wrote; and
# rows that triggers replace while a statement replaces others need not leave a trail. (A BEFORE UPDATE trigger that writes other
# rows, whose own triggers write back, writes such a row, too.)
REFUSED = re.compile(
    r"BEFORE .*('seen'|'again'|INTO other)|BEFORE UPDATE .*BEGIN UPDATE tree|OR REPLACE|REPLACE INTO|OR IGNORE"
)


class Fuzzed(unittest.TestCase):
    @given(
        st.sampled_from(sorted(TABLES)), st.lists(MADE, max_size=3), st.sampled_from(["older", "younger", "temporary"]),
        st.lists(st.lists(statements, min_size=1, max_size=4), min_size=1, max_size=4), st.booleans(),
    )  # fmt: skip
    # The same sixty every time; the long form tries others.
    @settings(
        max_examples=examples(60),
        deadline=None,
        phases=WITHOUT_SHRINKING,
        derandomize=float(os.environ.get("PLAINSTEP_SOAK", "1")) <= 1,
    )
    def test_any_triggers_on_any_table(
        self, kind: str, made: list[str], when: str, cuts: list[list[str]], at_once: bool
    ) -> None:
        """The long form tries some thousands (make soak): the target is the source, or the step is refused."""
        triggers = []
        for number, text in enumerate(made):
            row = "OLD" if " DELETE ON" in text else "NEW"
            text = text.replace("{temporary}", "TEMP " if when == "temporary" else "").replace("{name}", f"t{number}")
            triggers.append(text.replace("{row}", row) + ";")
        with Town() as town:
            town.shell(f"{TABLES[kind]}; CREATE TABLE other (k); CREATE TRIGGER of_other AFTER INSERT ON other BEGIN "
                       "UPDATE tree SET a = 8 WHERE k = NEW.k AND a IS NOT 8; END;" + ("".join(triggers) if when == "older" else ""))  # fmt: skip
            town.shell("INSERT INTO tree (k, a, b) VALUES (1, NULL, 'oak'), (2, NULL, 'elm');")
            town.project.capture_on("town.tree")
            town.shell("".join(triggers) if when == "younger" else "")
            town.project.step("shed")
            for cut in cuts:
                if (
                    when != "older"
                ):  # OR FAIL keeps what a statement did before a trigger of the user's fails, and ours is not reached
                    cut = [one.replace("OR FAIL", "") for one in cut]
                begin = "PRAGMA foreign_keys = ON;" + ("".join(triggers) if when == "temporary" else "")
                parts = [cut] if at_once else [[one] for one in cut]
                for part in parts:
                    told = town.shell(begin + "\n".join(part))
                    self.assertNotIn("plainstep", told)  # law 12: nobody's statement fails for us
                [outcome] = town.project.step("shed", raise_errors=False)
                if outcome.error:
                    self.assertIn("do not follow on each other", str(outcome.error))
                    self.assertTrue(any(REFUSED.search(text) for text in triggers), triggers)
                    self.assertEqual(town.run("reload", "shed").exit_code, 0)
                self.assertEqual(town.rows("shed"), town.rows())


class Sqlite(unittest.TestCase):
    TRIGGERS = {
        "only one main": "AFTER UPDATE OF a ON tree WHEN NEW.a = 1 BEGIN UPDATE tree SET a = 0 WHERE a = 1 AND k <> NEW.k; END",
        "renumber": "AFTER INSERT ON tree BEGIN UPDATE tree SET a = a + 1 WHERE k <> NEW.k AND a >= NEW.a; END",
        "through another table": "AFTER UPDATE OF a ON tree BEGIN INSERT INTO other VALUES (NEW.k); END",
        "own row": "AFTER UPDATE OF a ON tree WHEN NEW.b IS NOT 'seen' BEGIN UPDATE tree SET b = 'seen' WHERE k = NEW.k; END",
        "set back": "AFTER UPDATE ON tree WHEN NEW.b = 'no' BEGIN UPDATE tree SET a = OLD.a, b = OLD.b WHERE k = NEW.k; END",
        "before": "BEFORE UPDATE OF a ON tree WHEN NEW.a = 3 BEGIN UPDATE tree SET b = 'three' WHERE k <> NEW.k; END",
    }
    WORDS = WORDS | {
        "call": "UPDATE tree SET a = a + {0} WHERE k > {1}",
        "all": "REPLACE INTO tree VALUES ({0}, {1}, 'ash')",
    }

    @given(
        ACTS,
        st.sets(st.sampled_from(sorted(TRIGGERS)), min_size=1, max_size=3),
        st.booleans(),
        st.sampled_from(["", "TEMP "]),
    )
    @settings(max_examples=examples(12), deadline=None, phases=WITHOUT_SHRINKING)
    def test_triggers_that_write_their_own_table(
        self, acts: Any, hung: set[str], younger: bool, temporary: str
    ) -> None:
        loads = "".join(
            f"[loads.{name}]\nfrom = 'town.tree'\ninto = 'house.{name}'\n{said}\n" for name, said in SHAPES.items()
        )
        with Town(TREE, "CREATE TABLE other (k INTEGER)", loads=loads) as town:
            town.sql("INSERT INTO tree VALUES (1, 0, 'oak'), (2, 1, 'elm'), (3, 2, NULL)",
                     "CREATE TRIGGER of_other AFTER INSERT ON other BEGIN UPDATE tree SET a = a + 100 WHERE k = NEW.k AND a < 100; END")  # fmt: skip
            made = [f"CREATE {temporary}TRIGGER {quoted(name)} {self.TRIGGERS[name]}" for name in sorted(hung)]
            if not younger and not temporary:
                town.sql(*made)
            town.project.capture_on("town.tree")
            if younger and not temporary:
                town.sql(*made)
            town.project.step()
            for number, (what, key, value) in enumerate(acts):
                town.sql(
                    *(made if temporary else ()),
                    self.WORDS[what].format(key, value).replace("INSERT INTO tree VALUES ({0}, {1}, 'oak')", ""),
                )
                if number % 3 == 2:
                    town.project.step()
            town.project.step()
            for store in ("house", "shed"):
                self.assertEqual(town.rows(store), town.rows(), (acts, hung, younger))
            self.assertEqual(
                [(one.load, one.ok) for one in town.project.check()], [(name, True) for name in town.project.loads]
            )

    def test_a_row_that_refers_to_itself(self) -> None:
        tree = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER REFERENCES tree (k) ON UPDATE CASCADE ON DELETE SET NULL, b TEXT)"
        with Town(tree) as town:
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1, 1, 'root'), (2, 1, 'leaf')")
            town.project.step()
            town.sql(
                "PRAGMA foreign_keys = ON",
                "UPDATE tree SET k = 5, b = 'moved' WHERE k = 1",
                "UPDATE tree SET k = 6 WHERE k = 5",
                "DELETE FROM tree WHERE k = 6",
            )
            town.project.step()
            self.assertEqual(town.rows("house"), town.rows())
            self.assertTrue(all(one.ok for one in town.project.check()))


def quoted(name: str) -> str:
    return f'"{name}"'


if __name__ == "__main__":
    unittest.main()
