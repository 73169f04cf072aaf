"""Running it unattended: what is forgotten, who keeps it, and stepping until told to stop."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import threading
import time
import unittest
from datetime import timedelta
from typing import IO, Any, cast
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep import Scope, StepOutcome
from plainstep.cli import progress_bar
from plainstep.core.positions import Position, Window
from plainstep.export import openmetrics as metrics
from plainstep.loads import runner as runner
from plainstep.loads.load import Load
from plainstep.loads.step import step_together
from plainstep.progress import told_to
from plainstep.views.status import LoadStatus
from tests.histories import Model, histories
from tests.support import TREE, WITHOUT_SHRINKING, Town, act, examples

MORE = '[loads.more_{0}]\nfrom = "town.tree"\ninto = "shed.more_{0}"\n'
PACE = "import sys; from plainstep.cli.main import cli; cli(['run', '--every', '0.1s', *sys.argv[1:]])"


class Progress(unittest.TestCase):
    def test_one_bar_shows_the_whole_way_of_several_steps(self) -> None:
        for patience in (0.0, 0.02):  # the bar comes up in the first step, or later
            with Town(TREE, loads=MORE.format(1) + "at_most = 7\n") as town:
                town.project.capture_on("town.tree")
                town.project.step("more_1")
                town.sql(*(f"INSERT INTO tree VALUES ({number}, 1, 'a')" for number in range(40)))
                with mock.patch.object(progress_bar, "PATIENCE", patience):
                    bars = progress_bar._Bars()
                    with told_to(bars.hear):
                        made = town.project.step("more_1", until_done=True)
                    bars.close()
                assert bars.progress is not None
                [task] = bars.progress.tasks
                self.assertGreater(len(made), 3)
                self.assertEqual((task.completed, task.total), (40, 40))


class Standing(unittest.TestCase):
    def test_what_a_monitor_learns(self) -> None:
        with Town(TREE) as town:
            town.config.write_text(town.config.read_text().replace('town.db"', 'town.db"\nkeep = "1h"'))
            self.assertEqual(town.run("status").exit_code, 4)  # capture is off: a step would be refused
            town.run("capture", "on", "town.tree")
            town.project.step()
            town.sql("INSERT INTO tree VALUES (1, 0, 'oak')", "INSERT INTO tree VALUES (2, 0, 'elm')")
            [house, shed] = town.project.status("house", "shed")
            self.assertEqual((house.health, shed.health, house.waiting), ("behind", "behind", 2))
            assert house.capture and house.capture.size and house.forgotten_in
            self.assertEqual(house.capture.held, 2)
            self.assertTrue(3500 < house.forgotten_in <= 3600)
            town.sql("UPDATE plainstep_changes_tree SET at = at - 7200000 WHERE seq > 0")
            late = town.run("status", "house")
            self.assertEqual(late.exit_code, 3)
            self.assertIn("changes have waited for longer than they are kept (1h). plainstep step house", late.output)
            town.sql("DELETE FROM plainstep_readers WHERE reader LIKE 'shed%'")
            self.assertIn("does not know this load as a reader", town.run("status", "shed").output)
            town.project.step()
            self.assertEqual([one.health for one in town.project.status()], ["ok", "ok"])
            town.shell(".dbconfig enable_trigger off\nUPDATE tree SET a = 9 WHERE k = 1;")
            silent = town.run("status", "house", "--json", "--metrics", str(town.path / "metrics.txt"))
            self.assertEqual(silent.exit_code, 4)
            self.assertEqual(json.loads(silent.stdout)[0]["health"], "stopped")
            self.assertIn("the row with k 1 is not as it was recorded", silent.stdout)
            lines = (town.path / "metrics.txt").read_text().splitlines()
            self.assertEqual(lines[-1], "# EOF")
            labels = 'load="house",from="town.tree",into="house.tree"'
            self.assertIn(f"plainstep_load_waiting_changes{{{labels}}} 0", lines)
            self.assertIn(f'plainstep_load_health{{{labels},plainstep_load_health="stopped"}} 1', lines)
            for name in {line.split("{")[0] for line in lines if not line.startswith("#")}:
                self.assertEqual(sum(line.startswith(f"# TYPE {name} ") for line in lines), 1)

    def test_odd_values_are_no_sign_that_capture_stopped(self) -> None:
        """F22: what a row holds is compared as values, not as texts of them."""
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a REAL, b TEXT, c BLOB)") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            for values in ("9e999, 'a', x'00'", "-9e999, 'a' || char(0), x''", "-0.0, char(0), zeroblob(5)"):
                town.sql(f"INSERT INTO tree SELECT coalesce(max(k), 0) + 1, {values} FROM tree")
                self.assertEqual([one.health for one in town.project.status()], ["behind"] * 2, values)
            town.sql(
                "UPDATE tree SET c = x'01'",
                "UPDATE tree SET c = x''",
                "INSERT INTO tree (k) VALUES (9)",
                "DELETE FROM tree WHERE k = 9",
            )
            self.assertEqual([one.health for one in town.project.status()], ["behind"] * 2)

    def test_what_has_not_begun_is_left_out_of_a_check(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            self.assertIn("has not begun", town.run("check").stderr)
            town.project.step("shed")
            told = town.run("check")
            self.assertEqual(told.exit_code, 0)
            self.assertIn("house is left out: it has not begun (plainstep step house)", told.stderr)
            self.assertIn("shed", told.stdout)
            self.assertEqual(town.run("check", "house").exit_code, 4)

    def test_interrupted(self) -> None:
        with Town(TREE) as town, mock.patch("plainstep.project.Project.step", side_effect=KeyboardInterrupt):
            told = town.run("step")
            self.assertEqual(told.exit_code, 130)
            self.assertIn("written whole or not at all", told.stderr)

    def test_a_disk_without_room(self) -> None:
        """F22: it is no other step that is in the way, and nothing is written."""
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            town.project.step()
            town.sql(
                "WITH RECURSIVE n (k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n WHERE k < 60000) "
                "INSERT INTO tree SELECT k, k, hex(randomblob(40)) FROM n"
            )
            size = (town.path / "house.duckdb").stat().st_size
            words = [sys.executable, "-c", f"import resource; resource.setrlimit(resource.RLIMIT_FSIZE, ({size + 300_000},) * 2); "
                     "from plainstep.cli.main import cli; cli()", "-c", str(town.config), "step", "house"]  # fmt: skip
            told = subprocess.run(words, capture_output=True, text=True, check=False)
            self.assertEqual(told.returncode, 1, told)
            self.assertNotIn("another step", told.stderr)
            self.assertIn("DuckDB says of", told.stderr)
            self.assertEqual(town.run("step").exit_code, 0)
            self.assertEqual(len(town.rows("house")), 60000)


AWKWARD = ["plain", 'a "quoted" one', "back\\slash", "two\nlines", "ünïcode 木", "{braces}", "a,b=c"]
LABEL = r'([a-z_]+)="((?:[^"\\\n]|\\["n\\])*)"'
SAMPLE = re.compile(rf"([a-z_]+)\{{({LABEL}(?:,{LABEL})*)\}} (-?[0-9.e+-]+)")


class Metrics(unittest.TestCase):
    @given(
        st.lists(st.sampled_from(AWKWARD), min_size=1, max_size=4, unique=True),
        st.sampled_from(metrics.HEALTHS),
        st.none() | st.integers(0, 10**12),
        st.none() | st.floats(0, 1e9),
    )
    def test_every_line_is_of_the_format(
        self, names: list[str], health: str, waiting: int | None, lag: float | None
    ) -> None:
        """Families are whole and in one piece, each sample is of one, labels read back as what they were."""
        found = [
            LoadStatus(
                name, "town.tree", f"house.{name}", "mirror", waiting=waiting, lag_seconds=lag, health=cast(Any, health)
            )
            for name in names
        ]
        text = metrics.openmetrics(found)
        *lines, last = text.splitlines()
        self.assertEqual((last, text[-1]), ("# EOF", "\n"))
        family, seen = "", set()
        samples: dict[str, list[tuple[dict[str, str], float]]] = {}
        for line in lines:
            if line.startswith("# TYPE "):
                family = line.split()[2]
                self.assertNotIn(family, seen)
                seen.add(family)
            elif line.startswith("#"):
                self.assertEqual(line.split()[2], family)
            else:
                match = SAMPLE.fullmatch(line)
                assert match, line
                self.assertEqual(match[1], family)
                unescaped = {
                    name: re.sub(r"\\(.)", lambda one: "\n" if one[1] == "n" else one[1], value)
                    for name, value in re.findall(LABEL, match[2])
                }
                samples.setdefault(family, []).append((unescaped, float(match[match.re.groups])))
        health_of = samples["plainstep_load_health"]
        self.assertEqual([labels["load"] for labels, _ in health_of][:: len(metrics.HEALTHS)], names)
        self.assertEqual(
            [labels["plainstep_load_health"] for labels, value in health_of if value], [health] * len(names)
        )
        self.assertEqual(
            [value for _, value in samples.get("plainstep_load_waiting_changes", [])],
            [waiting] * len(names) if waiting is not None else [],
        )


class KeptOpen(unittest.TestCase):
    """Many looks on one connection see what looks on many do, and keep nobody from writing."""

    def test_writers_and_readers_in_between(self) -> None:
        for journal in ("wal", "delete"):
            with self.subTest(journal), Town(f"PRAGMA journal_mode = {journal}", TREE) as town:
                project = town.project
                project.capture_on("town.tree")
                project.step()
                load = project.load("house")
                with load.from_store.kept_open(), load.into_store.kept_open():
                    for number in range(3):
                        town.sql(f"INSERT INTO tree VALUES ({number}, 0, 'oak')")
                        self.assertEqual(load.source.span().head, number + 1)
                        with load.source.snapshot() as snapshot:  # within it, others open their own
                            self.assertEqual(load.source.time_of(load.source.span().end), snapshot.span.head_at)
                            self.assertEqual(sum(batch.num_rows for batch in snapshot.batches), number + 1)
                        self.assertEqual(project.look("house").total, number + 1)
                    watermark = load.target.watermark("house")
                    assert watermark
                    self.assertEqual(load.target.standing()["house"][0], watermark)
                self.assertEqual(project.step("house")[0].changes, 3)
                self.assertEqual([one.health for one in project.status("house")], ["ok"])
                (town.path / "town.db").write_text("no database any more, and long enough to be looked at as one")
                self.assertEqual([one.health for one in project.status("house")], ["refuses"])

    def test_a_reading_that_is_given_up(self) -> None:
        """Whoever stops reading half-way leaves neither a closed connection behind nor one that others share."""
        rows = "INSERT INTO tree SELECT value, 0, 'oak' FROM generate_series(1, 9000)"
        with Town(TREE) as town:
            project = town.project
            project.capture_on("town.tree")
            town.shell(rows + ";")
            town.sql("INSERT INTO tree VALUES (10001, 1, 'elm')")
            load = project.load("shed")
            project.step("shed")
            with load.from_store.kept_open():
                half = iter(load.source.read(Window.between(Position(0), load.source.span().end)))
                self.assertGreater(len(next(half)), 0)
                self.assertEqual(load.source.span().head, load.source.span().end.number)
                with load.from_store.kept_open():  # once more within itself
                    self.assertEqual(load.source.warnings(), [])
            half.close()  # type: ignore[attr-defined]
            with load.from_store.kept_open():
                given_up = iter(load.source.read(Window.between(Position(0), load.source.span().end)))
                next(given_up)
                del given_up
                self.assertEqual(project.check("shed")[0].ok, True)
            town.sql("DELETE FROM tree WHERE k = 10001")
            self.assertEqual(project.step("shed")[0].changes, 1)
            self.assertEqual(project.step("shed")[0].outcome, "nothing")


class Beginning(unittest.TestCase):
    def test_a_first_configuration(self) -> None:
        """What init writes is a configuration that works, and what cannot be loaded is left out with the reason."""
        odd = 'CREATE TABLE "fallen trees" (id INTEGER PRIMARY KEY, why TEXT)'
        with Town(TREE, odd, "CREATE TABLE note (text TEXT)", "INSERT INTO tree VALUES (1, 2, 'oak')") as town:
            made = town.path / "made.toml"
            words = ("sqlite:///town.db", "duckdb:///made.duckdb", "-o", str(made))
            self.assertEqual(town.run("init", *words).exit_code, 0)
            self.assertEqual(town.run("init", *words).exit_code, 2)  # never over a file that is there
            told = made.read_text()
            self.assertIn("# Left out: it has no primary key.", told)
            project = plainstep.load_project(made)
            self.assertEqual(sorted(project.loads), ["fallen_trees", "tree"])
            for line in told.splitlines():
                if line.startswith("#   plainstep capture on "):
                    project.capture_on(line.removeprefix("#   plainstep capture on "))
            self.assertEqual([one.outcome for one in project.step()], ["stepped", "stepped"])
            self.assertIn("captured", plainstep.beginning_of(words[0], words[1], ("tree",), town.path))
            self.assertIn("has no table 'elm'", town.run("init", *words[:3], f"{made}.2", "--table", "elm").output)
            for shell in ("bash", "zsh", "fish"):
                self.assertIn("_PLAINSTEP_COMPLETE", town.run("completion", shell).output)


class Checking(unittest.TestCase):
    @given(histories, histories, histories)
    @settings(max_examples=examples(12), deadline=None, phases=WITHOUT_SHRINKING)
    def test_differences_are_found_and_repaired(self, before: list[Any], waiting: list[Any], spoilt: list[Any]) -> None:
        """Whatever became of the target, repairing makes it the source as it stood at the watermark, and the watermark stays."""
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            model = Model()
            act(town, model, before)
            town.project.step()
            merged = sorted(((row["k"], row["a"], row["b"]) for row in model.rows.values()), key=repr)
            act(town, model, waiting)
            shed = Model({row[0]: {"k": row[0], "a": row[1], "b": row[2]} for row in merged})
            act(town, shed, spoilt, store="shed")
            now = town.rows("shed")
            [found] = town.project.check("shed")
            keys = {row[0] for row in {*now} ^ {*merged}}
            self.assertEqual((found.ok, found.missing + found.extra + found.different), (not keys, len(keys)))
            [part] = town.project.check("shed", scope=Scope(columns=("a",)))
            halves = {(k, a) for k, a, _ in now} ^ {(k, a) for k, a, _ in merged}
            self.assertEqual(part.missing + part.extra + part.different, len({k for k, _ in halves}))
            [repaired] = town.project.check("shed", repair=True)
            self.assertEqual(repaired.repaired is None, found.ok)
            self.assertEqual(town.rows("shed"), merged)
            self.assertEqual(town.run("check").exit_code, 0)
            town.project.step()
            self.assertEqual(town.rows("shed"), town.rows())

    def test_what_cannot_be_fixed(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            town.project.step()
            for words in (("--columns", "a"), ("--where", "a > 1")):
                self.assertEqual(town.run("check", "house", "--repair", *words).exit_code, 2)
            self.assertIn("There is no column 'z'", town.run("check", "house", "--columns", "z").output)
            self.assertIn("is not a condition on these rows", town.run("check", "house", "--where", "z = 1").output)


class Pacing(unittest.TestCase):
    def test_it_steps_until_told_and_no_load_holds_up_another(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            town.project.step()
            (town.path / "shed.db").rename(town.path / "away.db")
            (town.path / "shed.db").write_text("no database, for a while")
            child = town.child(PACE, "--json")
            assert child.stdout
            failed = self.heard(child.stdout, "shed")
            self.assertEqual((failed["outcome"], failed["failures"]), ("failed", 1))
            again = self.heard(child.stdout, "shed")
            self.assertGreaterEqual(again["pause"], 2 * failed["pause"])
            town.sql("INSERT INTO tree VALUES (1, 0, 'oak')")
            self.assertEqual(self.heard(child.stdout, "house")["changes"], 1)
            second = town.child(PACE)
            self.assertIn(f"Another run steps house already: process {child.pid}.", second.communicate(timeout=240)[0])
            self.assertEqual(second.returncode, 4)
            for words in ("status", "ledger", "check"):
                self.assertEqual(town.run(words, "house").exit_code, 0)
            (town.path / "away.db").rename(town.path / "shed.db")
            while self.heard(child.stdout, "shed")["outcome"] == "failed":
                pass
            child.terminate()
            self.assertNotIn("Traceback", child.communicate(timeout=240)[0])
            self.assertEqual(child.returncode, 0)
            self.assertEqual(town.rows("house"), town.rows())
            self.assertEqual(town.rows("shed"), town.rows())

    @given(st.integers(0, 10**9), st.floats(0.001, 10**5))
    def test_rests_grow_and_end(self, failures: int, every: float) -> None:
        rest, later = runner.pause_after(failures, every), runner.pause_after(failures + 1, every)
        self.assertTrue(every <= rest <= later <= max(every, runner.LONGEST_PAUSE))
        self.assertEqual([runner.pause_after(number, every) for number in (0, 1)], [every, every])
        self.assertEqual(runner.pause_after(2, every), min(2 * every, max(runner.LONGEST_PAUSE, every)))

    def test_whatever_goes_wrong_is_told_and_tried_again(self) -> None:
        """An error that nobody foresaw ends no thread; a log that is gone ends the run."""
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            loads = [town.project.load(name) for name in ("house", "shed")]
            ticks: list[runner.Tick] = []
            turns = iter([ZeroDivisionError("once"), None, KeyError("twice"), KeyError("again")])
            real = step_together

            def sometimes(loads: list[Load]) -> list[StepOutcome]:
                wrong = next(turns, None) if loads[0].name == "shed" else None
                if wrong is not None:
                    raise wrong
                return real(loads)

            def tell(tick: runner.Tick) -> None:
                ticks.append(tick)
                if sum(one.outcome.load == "shed" for one in ticks) == 5:
                    raise BrokenPipeError

            going = runner.Runner([[load] for load in loads], timedelta(milliseconds=20), tell)
            with mock.patch("plainstep.loads.runner.step_together", sometimes):
                going.run()
            shed = [one for one in ticks if one.outcome.load == "shed"]
            self.assertEqual([one.failures for one in shed], [1, 0, 1, 2, 0])
            self.assertEqual([one.recovered for one in shed], [False, True, False, False, True])
            self.assertIn("Unexpected error: ZeroDivisionError: once", str(shed[0].outcome.error))
            self.assertTrue(all(one.failures == 0 for one in ticks if one.outcome.load == "house"))
            self.assertEqual(town.rows("shed"), town.rows())
            [_, *remedy] = str(shed[0].outcome.error).splitlines()[-1].split()
            self.assertEqual(town.run(*remedy).exit_code, 0, remedy)

    def test_loads_of_one_source_wait_for_each_other_and_others_do_not(self) -> None:
        with Town(TREE, loads="".join(MORE.format(number) for number in range(6))) as town:
            loads = list(town.project.loads.values())
            at_once, most = [0], [0]
            guard = threading.Lock()

            def slow(loads: list[Load]) -> list[StepOutcome]:
                with guard:
                    at_once[0] += 1
                    most[0] = max(most[0], at_once[0])
                time.sleep(0.02)
                with guard:
                    at_once[0] -= 1
                return [StepOutcome(load.name, "nothing") for load in loads]

            stepped: set[str] = set()

            def tell(tick: runner.Tick) -> None:
                stepped.add(tick.outcome.load)
                if len(stepped) == len(loads):
                    going.stop()

            going = runner.Runner([[load] for load in loads], timedelta(milliseconds=1), tell)
            with mock.patch("plainstep.loads.runner.step_together", slow):
                going.run()
            self.assertEqual((stepped, most[0]), ({load.name for load in loads}, runner.AT_ONCE))

    def heard(self, lines: IO[str], load: str) -> dict[str, Any]:
        """The next that is logged of a load."""
        while True:
            told: dict[str, Any] = json.loads(lines.readline())
            if told["load"] == load:
                return told


class Trimming(unittest.TestCase):
    def test_only_what_every_reader_has_merged_goes(self) -> None:
        """Readers in other configuration files count, and nothing is forgotten without being told to."""
        with Town(TREE) as town:
            other = town.path / "other.toml"
            other.write_text(
                town.config.read_text().split("[loads.house]")[0]
                + '[loads.late]\nfrom = "town.tree"\ninto = "shed.late"\n'
            )
            town.run("capture", "on", "town.tree")
            self.assertIn("no reader is known yet", town.run("trim", "town", "--yes").output)
            town.project.step("house")
            plainstep.load_project(other).step("late")
            for number in range(10):
                town.sql(f"INSERT INTO tree VALUES ({number}, 0, 'oak')")
            town.project.step("house")
            before = town.fingerprint()
            [found] = json.loads(town.run("trim", "town", "--json").output)
            self.assertEqual((found["held"], found["gone"], found["done"]), (10, 0, False))
            self.assertEqual([one["waiting"] for one in found["readers"]], [0, 10])
            plainstep.load_project(other).step("late")
            before = town.fingerprint()
            self.assertIn("Add --yes to do it", town.run("trim", "town").output)
            self.assertIn("10         0    10", town.run("trim", "town", "--keep", "1h").output)
            self.assertEqual(town.fingerprint() | {"shed.db": ""}, before | {"shed.db": ""})
            [done] = town.project.trim("town", really=True)
            self.assertEqual((done.gone, done.done), (9, True))
            town.sql("INSERT INTO tree VALUES (11, 0, 'oak')")
            self.assertEqual(json.loads(town.run("capture", "list", "--json").output)[0]["held"], 2)
            self.assertEqual(town.project.step("house")[0].changes, 1)
            self.assertTrue(all(one.ok for one in town.project.check("house")))
            late = next(one.name for one in done.readers if one.name.startswith("late"))
            town.project.trim("town", keep=timedelta(0), really=True)
            self.assertEqual(town.project.forget("town", late), 1)
            [found] = town.project.trim("town.tree", really=True)
            self.assertEqual([one.name.split(",")[0] for one in found.readers], ["house"])
            refused = plainstep.load_project(other).status("late")
            self.assertEqual(refused[0].health, "refuses")  # it was struck out, and what it merged last is gone

    def test_a_reader_that_fell_away_is_named(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            town.project.step()
            town.sql(
                "INSERT INTO tree VALUES (1, 0, 'oak')",
                "UPDATE plainstep_readers SET seen = 0 WHERE reader LIKE 'shed%'",
            )
            town.project.step("house")
            told = town.run("trim", "town").output
            name = town.project.load("shed").reader
            self.assertIn(f"{name} seems to be gone, and keeps 1 change", told)
            self.assertIn(f"plainstep trim town --forget '{name}'", told)
            self.assertIn("No reader is called 'nobody'", town.run("trim", "town", "--forget", "nobody").output)
