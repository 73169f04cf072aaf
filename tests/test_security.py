"""Nobody gets in: whoever runs what, no role gains a right through us."""

from __future__ import annotations

import contextlib
import os
import subprocess
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import psycopg

from plainstep.loads import runner as runner
from tests.postgres import COMMANDS, INTO, Database, cluster, park, role
from tests.support import Town

TREE = "CREATE TABLE tree (k int PRIMARY KEY, a int, b text)"
# What somebody puts where a superuser might come by.
GRAB = """CREATE FUNCTION {schema}.grab() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    IF current_setting('is_superuser') = 'on' THEN ALTER ROLE {thief} SUPERUSER; END IF; RETURN coalesce(NEW, OLD);
    EXCEPTION WHEN OTHERS THEN RETURN coalesce(NEW, OLD); END $$"""
TAKE = """CREATE FUNCTION {schema}.take({kind}) RETURNS {gives} LANGUAGE plpgsql AS $$ BEGIN
    IF current_setting('is_superuser') = 'on' THEN ALTER ROLE {thief} SUPERUSER; END IF; RETURN {value}; END $$"""


class Rights(unittest.TestCase):
    """PostgreSQL: somebody who owns a table, a schema, a type or a domain waits for a superuser to come by."""

    @contextlib.contextmanager
    def owned(self, *statements: str, how: str = "capture") -> Iterator[tuple[Database, Database, Town, str]]:
        """A source whose table and schema ``plainstep`` belong to a thief; the town connects as a superuser."""
        thief = role()
        with Database() as empty, park(TREE) as (source, target, town):
            del empty
            source.sql(
                "DROP TRIGGER IF EXISTS x ON tree", f"ALTER TABLE tree OWNER TO {thief}", f"GRANT CREATE ON SCHEMA public TO {thief}",
                "INSERT INTO tree VALUES (1, 1, 'oak')", GRAB.format(schema="public", thief=thief),
                f"ALTER FUNCTION grab() OWNER TO {thief}",
            )  # fmt: skip
            town.run("capture", "off", "source.public.tree", "--yes")
            source.sql("DROP SCHEMA plainstep CASCADE", f"CREATE SCHEMA plainstep AUTHORIZATION {thief}")
            with self.acting(source, town, thief):
                town.project.capture_on("source.public.tree")
            source.sql(f"SET ROLE {thief}", *statements)
            try:
                yield source, target, town, thief
            finally:
                for database in (source, target):
                    database.sql(f"DROP OWNED BY {thief} CASCADE")

    @contextlib.contextmanager
    def acting(self, source: Database, town: Town, name: str) -> Iterator[None]:
        """Meanwhile, the town connects to its source as somebody."""
        text = town.config.read_text()
        town.config.write_text(text.replace(source.url, source.server.url(source.name, name)))
        try:
            yield
        finally:
            town.config.write_text(text)

    def caught(self, thief: str) -> None:
        with cluster().connect() as connection:
            [(gained,)] = connection.execute("SELECT rolsuper FROM pg_roles WHERE rolname = %s", [thief]).fetchall()
        self.assertFalse(gained, "the thief is a superuser now")

    def test_triggers_on_what_is_kept_beside_the_tables(self) -> None:
        for table, commands in (
            ("plainstep.captures", [("capture", "refresh", "source.public.tree"), ("capture", "off", "source.public.tree", "--yes")]),
            ("plainstep.readers", [("trim", "source", "--yes"), ("trim", "source", "--forget", "into_duckdb")]),
            ('plainstep."public.tree"', [("trim", "source", "--yes"), ("capture", "refresh", "source.public.tree")]),
        ):  # fmt: skip
            trap = f"CREATE TRIGGER t BEFORE INSERT OR UPDATE OR DELETE ON {table} FOR EACH ROW EXECUTE FUNCTION public.grab()"
            with self.subTest(table), self.owned() as (source, _, town, thief):
                town.project.step()
                source.sql("ALTER TABLE tree ADD COLUMN c int DEFAULT 3", f"SET ROLE {thief}", trap)
                source.sql("UPDATE tree SET a = a + 1")
                for words in commands:
                    told = town.run(*words)
                    self.caught(thief)
                    self.assertEqual(told.exit_code, 4, (words, told.output))
                    self.assertIn(f"belongs to {thief}, and has more to it than a table: the trigger t", told.stderr)
                    self.assertIn(f"Connect as {thief}", told.stderr)
                for command in ("step", "look", "status", "check", "net"):
                    town.run(command, "into_duckdb")
                self.caught(thief)
                with self.acting(source, town, thief):
                    self.assertEqual(town.run("capture", "refresh", "source.public.tree").exit_code, 0)

    def test_views_in_the_place_of_tables(self) -> None:
        for table in ("plainstep.captures", "plainstep.readers", 'plainstep."public.tree"'):
            quarantined = table.rstrip('"') + "_aside" + ('"' if table.endswith('"') else "")
            name = quarantined.removeprefix("plainstep.")
            with self.subTest(table), self.owned() as (source, _, town, thief):
                town.project.step()
                taking = TAKE.format(schema="public", kind="", gives="int", value="1", thief=thief)
                source.sql(f"SET ROLE {thief}", taking, f"ALTER TABLE {table} RENAME TO {name}",
                           f"CREATE VIEW {table} AS SELECT * FROM {quarantined} WHERE public.take() = 1")  # fmt: skip
                for words in (
                    ("step",),
                    ("look", "into_duckdb"),
                    ("status", "into_duckdb"),
                    ("capture", "list"),
                    ("trim", "source", "--yes"),
                    ("check",),
                ):
                    town.run(*words)
                    self.caught(thief)
                self.assertIn("it is not a table", town.run("step", "into_duckdb").stderr)

    def test_types_and_domains_with_functions(self) -> None:
        def made(thief: str) -> list[str]:
            return [
                f"SET ROLE {thief}",
                "CREATE TYPE sort AS ENUM ('a', 'b')", "CREATE TYPE pair AS (x int, y int)",
                TAKE.format(schema="public", kind="sort", gives="json", value="'1'", thief=thief),
                TAKE.format(schema="public", kind="pair", gives="json", value="'1'", thief=thief),
                TAKE.format(schema="public", kind="int", gives="bool", value="true", thief=thief),
                "CREATE CAST (sort AS json) WITH FUNCTION take(sort)", "CREATE CAST (pair AS json) WITH FUNCTION take(pair)",
                "CREATE FUNCTION said(sort) RETURNS text LANGUAGE sql AS 'SELECT take($1)::text'",
                "CREATE CAST (sort AS text) WITH FUNCTION said(sort) AS ASSIGNMENT",
                "CREATE DOMAIN height AS int CHECK (take(VALUE))",
                "ALTER TABLE tree ADD COLUMN s sort, ADD COLUMN p pair, ADD COLUMN h height",
            ]  # fmt: skip

        with self.owned() as (source, _, town, thief):
            source.sql(*made(thief))
            for statement in (
                "UPDATE tree SET s = 'a', p = (1, 2)::pair",
                "INSERT INTO tree VALUES (2, 2, 'elm', 'b', NULL, 3)",
                "UPDATE tree SET h = 5, k = k + 10",
            ):
                source.sql(f"SET ROLE {thief}", statement)
                for words in (
                    ("capture", "refresh", "source.public.tree"), ("step", "into_duckdb"), ("look", "into_duckdb"), ("check", "into_duckdb"),
                    ("trace", "into_duckdb", "2"), ("status", "into_duckdb"), ("check", "into_duckdb", "--where", "s = 'a'"),
                ):  # fmt: skip
                    told = town.run(*words)
                    self.assertEqual(told.exit_code, 0, (words, told.stderr))
                    self.caught(thief)
            town.config.write_text(
                town.config.read_text()
                + "[loads.compared]\nfrom = 'source.tree'\ninto = 'house.compared'\nchanges = 'diff'\nkey = ['k']\n"
                + "[loads.grown]\nfrom = 'source.tree'\ninto = 'house.grown'\nchanges = 'column'\ncolumn = ['h']\nkey = ['k']\n"
            )
            for load in ("compared", "grown"):
                self.assertEqual(town.run("step", load).exit_code, 0, town.run("step", load).output)
                self.assertEqual(town.run("check", load).exit_code, 0, town.run("check", load).output)
                self.caught(thief)

    def test_operators_that_fit_better_than_the_servers_own(self) -> None:
        with self.owned() as (source, _, town, thief):
            for one, other in (
                ("name", "text"),
                ("text", "name"),
                ("oid", "int4"),
                ("varchar", "text"),
                ("xid8", "text"),
                ("int8", "int4"),
            ):
                for sign in ("=", "<>", "<", ">=", ">"):
                    taken = TAKE.format(
                        schema="public", kind=f"{one}, {other}", gives="bool", value="true", thief=thief
                    )
                    source.sql(f"SET ROLE {thief}", taken.replace("FUNCTION", "OR REPLACE FUNCTION"),
                               f"CREATE OPERATOR public.{sign} (LEFTARG = {one}, RIGHTARG = {other}, FUNCTION = take)")  # fmt: skip
            source.sql("UPDATE tree SET a = 9")
            for words in (
                ("step",),
                ("look", "into_duckdb"),
                ("status", "into_duckdb"),
                ("check",),
                ("trim", "source", "--yes"),
                ("capture", "refresh", "source.tree"),
            ):
                self.assertEqual(town.run(*words).exit_code, 0, town.run(*words).output)
                self.caught(thief)

    def test_targets_and_views_of_others(self) -> None:
        with self.owned() as (source, target, town, thief):
            grab = GRAB.format(schema="mart", thief=thief)
            target.sql(f"CREATE SCHEMA mart AUTHORIZATION {thief}", f"SET ROLE {thief}", grab, "CREATE TABLE mart.copied (k int PRIMARY KEY, a int, b text)",
                       "CREATE TRIGGER t BEFORE INSERT ON mart.copied FOR EACH ROW EXECUTE FUNCTION mart.grab()")  # fmt: skip
            town.config.write_text(town.config.read_text().replace("target.copied", "target.mart.copied"))
            self.assertIn(f"Connect as {thief}", town.run("step", "into_postgres").stderr)
            self.assertEqual(target.rows("mart.copied"), [])
            self.caught(thief)
            source.sql(f"SET ROLE {thief}", TAKE.format(schema="public", kind="", gives="int", value="1", thief=thief),
                       "CREATE VIEW seen AS SELECT * FROM tree WHERE take() = 1")  # fmt: skip
            town.config.write_text(
                town.config.read_text()
                + "[loads.viewed]\nfrom = 'source.seen'\ninto = 'house.viewed'\nchanges = 'diff'\nkey = ['k']\n"
            )
            self.assertIn("it is not a table", town.run("step", "viewed").stderr)
            self.caught(thief)
            with self.acting(source, town, thief):
                self.assertEqual(town.run("step", "viewed").exit_code, 0)

    def test_capture_runs_with_the_owners_rights_whoever_turns_it_on(self) -> None:
        owner, keeper, stranger = role(), role(), role()
        with park(TREE) as (source, _, town):
            town.run("capture", "off", "source.public.tree", "--yes")
            source.sql("DROP SCHEMA plainstep CASCADE", f"CREATE SCHEMA plainstep AUTHORIZATION {keeper}", f"ALTER TABLE tree OWNER TO {owner}",
                       f"GRANT TRIGGER, SELECT, UPDATE ON tree TO {stranger}", f"GRANT CREATE, USAGE ON SCHEMA plainstep TO {stranger}")  # fmt: skip
            with self.acting(source, town, stranger):
                told = town.run("capture", "on", "source.public.tree")
                self.assertEqual(told.exit_code, 4, told.output)
                self.assertIn(f'GRANT "{owner}" TO "{stranger}"', told.stderr)
            source.sql(f'GRANT "{owner}" TO "{keeper}"')
            with self.acting(source, town, keeper):
                self.assertEqual(town.run("capture", "on", "source.public.tree").exit_code, 0)
                self.assertEqual(town.run("step", "into_duckdb").exit_code, 0)
            owners = source.rows(
                "SELECT pg_get_userbyid(proowner) FROM pg_proc WHERE pronamespace = 'plainstep'::regnamespace UNION ALL "
                "SELECT pg_get_userbyid(relowner) FROM pg_class WHERE relname = 'public.tree' AND relkind = 'r'"
            )
            self.assertEqual(owners, [(owner,), (owner,)])
            self.assertEqual(source.rows(f"SELECT has_schema_privilege('{owner}', 'plainstep', 'CREATE')"), [(False,)])
            source.sql(f"SET ROLE {owner}", "INSERT INTO tree VALUES (1, 1, 'oak')")
            with self.acting(source, town, keeper):
                for words in (("step", "into_duckdb"), ("trim", "source", "--yes"), ("capture", "refresh", "source.tree"),
                              ("capture", "off", "source.tree", "--yes")):  # fmt: skip
                    self.assertEqual(town.run(*words).exit_code, 0, town.run(*words).output)
            source.sql(f"DROP OWNED BY {owner}, {keeper}, {stranger} CASCADE")

    def test_readers_move_no_watermark_but_their_own(self) -> None:
        one, other = role(), role()
        with park(TREE) as (source, target, town):
            for name in (one, other):
                source.sql(f"GRANT USAGE ON SCHEMA plainstep, public TO {name}",
                           f'GRANT SELECT ON tree, plainstep.captures, plainstep."public.tree" TO {name}',
                           f"GRANT SELECT, INSERT, UPDATE ON plainstep.readers TO {name}")  # fmt: skip
            with self.acting(source, town, one):
                town.project.step()
                source.sql("INSERT INTO tree SELECT n, n, 'oak' FROM generate_series(1, 9) n")
            with source.connect(other) as connection:
                for statement in (
                    "UPDATE plainstep.readers SET mark = 99, upto = 99, token = '9999:9999:'",
                    "INSERT INTO plainstep.readers (identity, reader, mark, upto, token, written_by) "
                    f"SELECT identity, reader, 99, 99, '9999:9999:', '{one}' FROM plainstep.readers",
                ):
                    with contextlib.suppress(psycopg.Error):
                        connection.execute(statement)
            [trimmed] = town.project.trim("source", really=True)
            self.assertEqual(trimmed.gone, 0)
            with self.acting(source, town, one):
                self.assertEqual([outcome.error for outcome in town.project.step()], [None] * 3)
            self.assertEqual(len(target.rows("copied")), 9)
            with source.connect(other) as connection:
                for number, token in enumerate(
                    ("1:2:'); DROP TABLE tree; --", "5:3:", f"1:{'9' * 19}:", "0:1:", "1:9:7,3", "x")
                ):
                    connection.execute(
                        "INSERT INTO plainstep.readers (identity, reader, mark, upto, token) "
                        "SELECT identity, %s, 5, 5, %s FROM plainstep.captures", [f"trick{number}" if number else "trick", token]
                    )  # fmt: skip
            told = town.run("trim", "source", "--yes")
            self.assertEqual(told.exit_code, 0, told.stderr)
            self.assertIn("trick", told.output)
            for name in ("trick", *(f"trick{number}" for number in range(1, 6))):
                self.assertEqual(town.run("trim", "source", "--forget", name).exit_code, 0)
            [trimmed] = town.project.trim("source", really=True)
            self.assertGreater(trimmed.gone, 0)
            source.sql(f"DROP OWNED BY {one}, {other} CASCADE")

    def test_rows_that_a_policy_keeps_from_some(self) -> None:
        with park(TREE) as (source, _, town):
            self.assertEqual(town.run("capture", "off", "source.public.tree", "--yes").exit_code, 0)
            source.sql("ALTER TABLE tree ENABLE ROW LEVEL SECURITY")
            told = town.run("capture", "on", "source.public.tree")
            self.assertEqual(told.exit_code, 4)
            self.assertIn("capture on source.public.tree --despite-row-security", told.stderr)
            self.assertEqual(town.run("capture", "on", "source.public.tree", "--despite-row-security").exit_code, 0)
            self.assertEqual(town.run("step", INTO[0]).exit_code, 0)


class Written(unittest.TestCase):
    """What is written stays where it belongs, and goes through nobody's links."""

    def test_names_lead_nowhere_else(self) -> None:
        load = "../../out"
        values = ["..", "a/b", "x" * 300, "x" * 299 + "y", "", "é", "none"]
        loads = (
            f"[stores.kept]\nurl = 'file:///kept'\n[loads.\"{load}\"]\nfrom = 'town.tree'\ninto = 'kept.trees'\nshape = 'journal'\n"
            f"partition = ['b', 'load']\n[loads.\"../told\"]\nfrom = 'town.tree'\ninto = 'house.told'\nshape = 'events'\n"
            "deliver = 'file:///sent'\n[loads.\"../told\".rules]\ngrown = 'true'\n"
        )
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, b TEXT)", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            before = set(town.path.rglob("*"))
            for number, value in enumerate(values):
                town.sql(f"INSERT INTO tree VALUES ({number}, '{value}')")
            self.assertEqual([outcome.error for outcome in town.project.step()], [None] * 4)
            made = [path for path in set(town.path.rglob("*")) - before if path.is_file()]
            self.assertTrue(all(path.relative_to(town.path).parts[0] in ("kept", "sent") for path in made), made)
            self.assertEqual(len([path for path in made if path.suffix == ".parquet"]), len(values))
            for into in ("../trees", "/trees", ".plainstep/new", "a/../../b"):
                town.config.write_text(town.config.read_text().partition("[loads.out]")[0]
                                       + f"[loads.out]\nfrom = 'town.tree'\ninto = 'kept.{into}'\nshape = 'journal'\n")  # fmt: skip
                self.assertIn("is not a folder of its own", str(town.project.step("out", raise_errors=False)[0].error))

    def test_links_are_not_followed(self) -> None:
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, b TEXT)") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            precious = town.path / "precious"
            precious.write_text("keep me")
            for name in ("out.csv", "page.html"):
                (town.path / name).symlink_to(precious)
            self.assertEqual(town.run("look", "house", "-o", str(town.path / "out.csv")).exit_code, 0)
            self.assertEqual(town.run("report", "-o", str(town.path / "page.html")).exit_code, 0)
            (town.path / "made.toml").symlink_to(town.path / "nothing.toml")
            urls = (f"sqlite:///{town.path}/town.db", "duckdb:///x.duckdb")
            self.assertEqual(town.run("init", *urls, "-o", str(town.path / "made.toml")).exit_code, 2)
            self.assertEqual((precious.read_text(), (town.path / "nothing.toml").exists()), ("keep me", False))
            os.mkfifo(town.path / "pipe")
            reader = subprocess.Popen(["cat", town.path / "pipe"], stdout=subprocess.PIPE)
            self.assertEqual(
                town.run(
                    "look", "house", "-o", str(town.path / "pipe"), "--format", "csv", "--after", "start"
                ).exit_code,
                0,
            )
            self.assertIn(b"position", reader.communicate(timeout=240)[0])
            self.assertTrue((town.path / "pipe").is_fifo())

    def test_a_pace_locks_where_nobody_else_can(self) -> None:
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, b TEXT)") as town, tempfile.TemporaryDirectory() as shared:
            town.project.capture_on("town.tree")
            mine = Path(shared) / f"plainstep-{os.getuid()}"
            with mock.patch.dict(os.environ, {"TMPDIR": shared}), mock.patch.object(tempfile, "tempdir", shared):
                mine.symlink_to(town.path)
                told = town.run("run", "house", "--every", "1s")
                self.assertEqual(told.exit_code, 4, told.output)
                self.assertIn("is not a folder of this user's alone", told.stderr)
                mine.unlink()
                with runner.alone([town.project.load("house")]):
                    self.assertEqual(mine.stat().st_mode & 0o777, 0o700)
                    [lock] = mine.iterdir()
                    lock.write_text("1; rm -rf /")
                    told = town.run("run", "house", "--every", "1s")
                    self.assertEqual(told.exit_code, 4)
                    self.assertNotIn("rm -rf", told.stderr)


class Terminals(unittest.TestCase):
    """Names and values that would do something to a terminal are shown as what they are."""

    def test_no_name_or_value_reaches_it(self) -> None:
        evil = "\x1b[2J\x1b]0;x\x07\r\x9b"
        table, column, load = (f"{name}{evil}" for name in ("tree", "b", "load"))
        loads = f'[loads."{load}"]\nfrom = "town.{table}"\ninto = "house.{table}"\n'.replace("\x1b", "\\u001b")
        for sign in ("\x07", "\r", "\x9b"):
            loads = loads.replace(sign, f"\\u{ord(sign):04x}")
        with Town(f'CREATE TABLE "{table}" (k TEXT PRIMARY KEY, "{column}" TEXT)', loads=loads) as town:
            town.sql(f"INSERT INTO \"{table}\" VALUES ('{evil}', '{evil}')")
            words = [
                (*(w.replace("source.public.tree", f"town.{table}").replace("source", "town") for w in one),)
                for one in COMMANDS
            ]
            words = [(*(load if w == "tree" else w for w in one),) for one in words]
            for one in (words[0], ("step", load)):
                self.assertEqual(town.run(*one).exit_code, 0, town.run(*one).output)
            town.sql(f'UPDATE "{table}" SET "{column}" = \'elm{evil}\'')
            more = [("init", f"sqlite:///{town.path}/town.db", "duckdb:///x.duckdb"), ("step", f"no{evil}"), ("look", load, "--key", evil),
                    ("look", load, "--where", f'"{column}" > 1'), ("capture", "on", f"town.no{evil}"), ("quarantine",)]  # fmt: skip
            for one in [*words, *more]:
                said = town.run(*one)
                for letter in "\x1b\x07\r\x9b":
                    self.assertNotIn(letter, said.output + said.stderr, one)
                self.assertNotIn("unforeseen", said.stderr, one)


class Expressions(unittest.TestCase):
    """A condition looks at one row, and costs what a row costs."""

    def test_what_would_look_further_or_grow(self) -> None:
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT, b TEXT)") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')")
            for sql, told in (
                ("true; CREATE MACRO f(x) AS x", "is not SQL|more than one expression"),
                ("true) AS keep, (1", "is not SQL|more than one expression"),
                ("unnest([now.a > 1, true])", "makes other rows of a row"),
                ("now.a = (SELECT 1)", "looks at more than the row"),
                ("random() > 0.5", "does not give the same"),
                ("length(repeat(now.b, 2000000000)) > 1", "more than 1,000,000 parts: repeat"),
                ("length(repeat(repeat(now.b, 10000), 10000)) > 1", "more than 1,000,000 parts: repeat"),
                ("length(lpad(now.b, now.a, 'x')) > 1", "make a value of any size: lpad"),
                ("len(range(now.a * 1000000000)) > 1", "make a value of any size: range"),
                ("length(printf('%2000000000d', now.a)) > 1", "parts: printf"),
                ("no.b = 'x'", "names 'no'"),
            ):
                with self.subTest(sql):
                    said = town.run("look", "house", "--where", sql)
                    self.assertEqual(said.exit_code, 2, said.output)
                    self.assertRegex(said.stderr, told)
            for sql in (
                "now.b = 'oak'",
                "lpad(now.b, 5, '*') = '**oak'",
                "len(list_filter(range(10), lambda x: x > now.a)) > 1",
            ):
                self.assertEqual(town.run("look", "house", "--where", sql).exit_code, 0)
            for setting in (
                'where = "unnest([true, a > 1])"',
                'derive = { c = "repeat(b, a)" }',
                'derive = { c = "unnest([a])" }',
            ):
                town.config.write_text(
                    town.config.read_text() + f"[loads.odd]\nfrom = 'town.tree'\ninto = 'house.odd'\n{setting}\n"
                )
                self.assertEqual(town.run("step", "odd").exit_code, 2)
                town.config.write_text(town.config.read_text().partition("[loads.odd]")[0])


if __name__ == "__main__":
    unittest.main()
