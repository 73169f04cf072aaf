"""The command line: what it prints, what it refuses, and how fast it says nothing."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
import unittest.mock
from pathlib import Path
from typing import Any

import nbclient
import nbformat
from jupyter_client.manager import AsyncKernelManager

import plainstep
from plainstep.demo import town
from tests.support import TREE, Town

REPOSITORY = Path(__file__).parents[1]


class Tour(unittest.TestCase):
    def test_the_demo_runs_and_leaves_its_files(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            command = [sys.executable, "-m", "plainstep"]
            done = subprocess.run([*command, "demo", "larkmoor"], cwd=folder, capture_output=True, text=True)
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            for words in (
                "13 changes after 0 up to 13",
                "height_m 7.2 -> 12.1",
                "nothing to do",
                "equal",
                "The ledger",
            ):
                self.assertIn(words, done.stdout)
            self.assertNotIn("DIFFERENT", done.stdout)
            by_hand = done.stdout.split("cd larkmoor\n")[1].splitlines()
            self.assertEqual(len(by_hand), 5)
            for line in by_hand:  # the commands it names, as typed
                line = line.strip().replace("plainstep", f"{sys.executable} -m plainstep", 1)
                after = subprocess.run(line, shell=True, cwd=Path(folder) / "larkmoor", capture_output=True, text=True)
                self.assertEqual(after.returncode, 0, after.stderr)
            again = subprocess.run([*command, "demo", "larkmoor"], cwd=folder, capture_output=True, text=True)
            self.assertEqual(again.returncode, 2)
            self.assertIn("plainstep demo OTHER_DIR", again.stderr)
            other = subprocess.run([*command, "demo", "other"], cwd=folder, capture_output=True, text=True)
            self.assertEqual((other.returncode, other.stderr), (0, ""))

    def test_every_test_that_the_docs_name_is_there(self) -> None:
        tests = {path.stem: path.read_text() for path in (REPOSITORY / "tests").glob("test_*.py")}
        for page in (REPOSITORY / "docs").rglob("*.md"):
            for module, name in re.findall(r"`(test_\w+)\.([A-Z]\w+)", page.read_text()):
                self.assertRegex(tests.get(module, ""), rf"class {name}\b", f"{page}: {module}.{name}")
            for owner, method in re.findall(r"`([A-Z]\w+)\.(test_\w+)`", page.read_text()):
                self.assertTrue(any(f"def {method}(" in text for text in tests.values()), f"{page}: {owner}.{method}")

    def test_pages_of_commands_are_as_they_are_shown(self) -> None:
        script = str(REPOSITORY / "examples" / "pages" / "show.py")
        shown = subprocess.run([sys.executable, script], capture_output=True, text=True, check=True).stdout
        self.assertEqual(shown, (REPOSITORY / "docs" / "first-hour.md").read_text())
        with tempfile.TemporaryDirectory() as folder:
            copies = Path(shutil.copytree(REPOSITORY / "docs" / "how-to", Path(folder) / "how-to"))
            subprocess.run([sys.executable, script, *map(str, copies.iterdir())], check=True)
            for page in copies.iterdir():
                with self.subTest(page.name):
                    self.assertEqual(page.read_text(), (REPOSITORY / "docs" / "how-to" / page.name).read_text())

    def test_the_readme_does_what_it_says(self) -> None:
        readme = (REPOSITORY / "README.md").read_text()
        section = readme.split("## Your own database")[1].split("\n## ")[0]
        with tempfile.TemporaryDirectory() as folder:
            config = Path(folder) / "plainstep.toml"
            town.build(Path(folder))
            config.write_text(section.split("```toml\n")[1].split("```")[0])
            [commands] = [part.split("```")[0] for part in section.split("```console\n") if "capture on" in part]
            outputs = []
            for line in commands.splitlines():
                line = line.removeprefix("$ ").replace("plainstep", f"{sys.executable} -m plainstep", 1)
                done = subprocess.run(line, shell=True, cwd=folder, capture_output=True, text=True)
                self.assertEqual((done.returncode, done.stderr), (0, ""), line)
                outputs.append(done.stdout)
        for output, words in zip(
            outputs,
            ["is on", "first load: 240", "", "status mature -> felled", "comes to 1 net", "put 1", "nothing", "equal"],
            strict=True,
        ):
            self.assertIn(words, output)

    def test_the_notebook_runs_and_shows_tables(self) -> None:
        notebook = nbformat.reads((REPOSITORY / "examples" / "larkmoor.ipynb").read_text(), as_version=4)  # type: ignore[no-untyped-call]
        kernels = type("Kernels", (AsyncKernelManager,), {"transport": "ipc"})  # which nobody else can reach
        nbclient.NotebookClient(notebook, kernel_manager_class=kernels, kernel_name="python3", timeout=240).execute()
        shown = [one for cell in notebook.cells if cell.cell_type == "code" for one in cell.outputs]
        self.assertEqual({one.output_type for one in shown} - {"execute_result", "stream"}, set())
        self.assertEqual([one.text for one in shown if one.get("name") == "stderr"], [])
        pages = [one.data["text/html"] for one in shown if one.output_type == "execute_result"]
        for page, words in zip(
            pages,
            [
                "3 loads",
                "inspection",
                "13 changes",
                "come to",
                "12.1",
                "stepped",
                "equal",
                "of 13",
                "height_m",
                "ok",
                "2.4",
            ],
            strict=True,
        ):
            self.assertIn("<table", page)
            self.assertIn(words, page)

    def test_the_nightly_job_ends_as_status_does(self) -> None:
        with Town(TREE) as here:
            job = [sys.executable, str(REPOSITORY / "examples" / "nightly.py"), str(here.config)]
            said = subprocess.run(job, capture_output=True, text=True)
            self.assertEqual(said.returncode, here.run("status").exit_code, said.stderr)
            self.assertIn("plainstep capture on town.tree", said.stderr)
            here.project.capture_on("town.tree")
            here.project.step()
            here.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            said = subprocess.run(job, capture_output=True, text=True)
            self.assertEqual((said.returncode, said.stderr), (0, ""))
            self.assertEqual(said.stdout, "house: 1 changes merged, up to 1\nshed: 1 changes merged, up to 1\n")

    def test_the_docs_show_the_commands_and_the_schema_as_they_are(self) -> None:
        schema = json.loads((REPOSITORY / "docs" / "plainstep.schema.json").read_text())
        self.assertEqual(schema, plainstep.config_schema())
        told = (REPOSITORY / "docs" / "commands.md").read_text()
        with Town() as here:
            for name in re.findall(r"^  (\w+) ", here.run("--help").output.split("Commands:")[1], re.MULTILINE):
                self.assertIn(f"## {name}", told)
                for option in re.findall(r"--[\w-]+", here.run(name, "--help").output):
                    self.assertIn(option, told)
        settings = (REPOSITORY / "docs" / "configuration.md").read_text()
        for model in schema["$defs"].values():
            for setting in model["properties"]:
                self.assertIn(f"`{setting}`", settings)


class Forms(unittest.TestCase):
    def test_json(self) -> None:
        with Town(
            "CREATE TABLE tree (k INTEGER PRIMARY KEY, cost DECIMAL(6,2), raw BLOB, planted DATE, seen TIMESTAMPTZ)",
            "INSERT INTO tree VALUES (1, 1.5, x'00ff', '2026-03-02', '2026-03-02 10:00:00+01:00')",
        ) as here:

            def run(*words: str) -> Any:
                return json.loads(here.run(*words, "--json").output)

            self.assertEqual(run("capture", "on", "town.tree")["key"], ["k"])
            step = run("step", "house")[0]
            self.assertEqual(
                (step["outcome"], step["after"], step["upto"], step["edits"]["append"]),
                ("stepped", None, 0, 1),
            )
            here.sql("UPDATE tree SET cost = 2", "INSERT INTO tree (k) VALUES (2)", "DELETE FROM tree WHERE k = 2")
            look = run("look", "house")
            self.assertEqual([change["op"] for change in look["changes"]], ["update", "insert", "delete"])
            change = look["changes"][0]
            row = {
                "k": 1,
                "cost": "1.50",
                "raw": "AP8=",
                "planted": "2026-03-02",
                "seen": "2026-03-02T09:00:00+00:00",
            }
            self.assertEqual((change["key"], change["was"], change["now"], change["changed"]),
                             ({"k": 1}, row, row | {"cost": "2.00"}, ["cost"]))  # fmt: skip
            self.assertEqual(set(change), {"position", "op", "at", "txn", "by", "key", "was", "now", "changed"})
            self.assertEqual(run("look", "house", "--limit", "1")["more"], 2)
            net = run("net", "house")
            self.assertEqual((net["read"], net["net"]), (3, [{"op": "update", "key": {"k": 1}, "was": row, "now": row | {"cost": "2.00"},
                                                             "changed": ["cost"], "count": 1}]))  # fmt: skip
            status = run("status", "house")[0]
            self.assertEqual((status["waiting"], status["health"], status["watermark"]["position"]), (3, "behind", 0))
            self.assertGreaterEqual(status["lag_seconds"], 0)
            self.assertEqual(run("step", "house")[0]["net"], {"insert": 0, "update": 1, "delete": 0})
            check = run("check", "house")[0]
            self.assertEqual({name: check[name] for name in ("ok", "source_rows", "target_rows", "waiting")},
                             {"ok": True, "source_rows": 1, "target_rows": 1, "waiting": 0})  # fmt: skip
            self.assertEqual([entry["step"] for entry in run("ledger", "house")], [1, 2])
            self.assertEqual(run("capture", "list")[0]["held"], 3)

    def test_text_is_safe_and_whole(self) -> None:
        with Town(TREE, f"INSERT INTO tree VALUES (1, 1, 'a\x1b[31m[b]\n{'x' * 200}')") as here:
            here.project.capture_on("town.tree")
            here.project.step()
            here.sql("DELETE FROM tree")
            shown = here.run("look", "house").output
            self.assertIn(r"a\x1b[31m[b]\nxxx", shown)
            self.assertNotIn("\x1b", shown)
            self.assertIn('"was"', here.run("look", "house", "--json").output)

    def test_how_much_is_shown(self) -> None:
        with Town(TREE) as here:
            here.project.capture_on("town.tree")
            here.sql(*[f"INSERT INTO tree VALUES ({n}, 0, 'oak')" for n in range(130)])
            for words in ("look", "net"):
                self.assertIn(
                    "... and 30 more; --all shows them, --page 2 the next ones.", here.run(words, "house").output
                )
                self.assertIn("130 insert", here.run(words, "house", "--limit", "0").output)
                self.assertNotIn("more", here.run(words, "house", "--all").output)
                self.assertEqual(json.loads(here.run(words, "house", "--limit", "7", "--json").output)["more"], 123)

    def test_debug_shows_where_an_error_came_from(self) -> None:
        with Town(TREE) as here:
            quiet, loud = here.run("step", "nowhere"), here.run("--debug", "step", "nowhere")
            self.assertIsInstance(quiet.exception, SystemExit)
            self.assertNotIn("Traceback", quiet.stderr)
            self.assertRegex(loud.stderr, r"(?s)Traceback.*in _chosen.*ConfigError.*There is no load")
            here.project.capture_on("town.tree")
            with unittest.mock.patch("plainstep.project.Project.status", side_effect=ZeroDivisionError("a bug")):
                result = here.run("status")
            self.assertEqual(result.exit_code, 1)
            self.assertIn("ZeroDivisionError: a bug", result.output)
            self.assertIn("--debug", result.output)

    def test_what_starts_ahead_spills_where_the_file_says(self) -> None:
        """DuckDB begins to start before the settings are looked at."""
        with Town(TREE) as here:
            here.project.capture_on("town.tree")
            here.config.write_text(here.config.read_text() + '[engine]\nscratch = "spill"\n')
            (here.path / "spill").mkdir()
            child = here.fresh(
                "import threading; from plainstep.stores.registry import start_ahead; start_ahead(['duckdb:///house.duckdb'])\n"
                "for one in threading.enumerate():\n"
                "    if one is not threading.current_thread(): one.join()\n"
                "from plainstep.cli.main import cli\n"
                "cli(['step'], standalone_mode=False)\n"
                "from plainstep.stores.duckdb.connection import _instance\n"
                "print(_instance().execute(\"SELECT current_setting('temp_directory')\").fetchone()[0])"
            )
            told, _ = child.communicate(timeout=240)
            self.assertIn(f"{here.path / 'spill'}/", told)

    def test_help_and_nothing_to_do_load_nothing_heavy(self) -> None:
        with Town(TREE) as here:
            here.project.capture_on("town.tree")
            here.project.step()
            heavy = "pyarrow numpy pandas rich"
            for words, modules in (
                (["--help"], heavy + " _duckdb sqlite3 plainstep.settings.models"),
                (["step"], heavy + " duckdb"),
            ):
                child = here.fresh(
                    "import sys; from plainstep.cli.main import cli\n"
                    f"cli({words!r}, standalone_mode=False)\n"
                    f"print('loaded:', [name for name in '{modules}'.split() if name in sys.modules])"
                )
                told, _ = child.communicate(timeout=240)
                self.assertIn("loaded: []", told)


class BadInput(unittest.TestCase):
    def refused(self, here: Town, status: int, *words: str, told: list[str]) -> None:
        before = here.fingerprint()
        result = here.run(*words)
        self.assertEqual(result.exit_code, status, result.output)
        for one in told:
            self.assertIn(one, result.output)
        self.assertLessEqual(len(result.output.splitlines()), 3, result.output)
        self.assertNotIn("Traceback", result.output)
        self.assertEqual(here.fingerprint(), before)

    def test_wrong_words(self) -> None:
        with Town(TREE) as here:
            here.project.capture_on("town.tree")
            self.refused(here, 2, "step", "huose", told=["no load 'huose'", "Did you mean 'house'?"])
            self.refused(here, 2, "capture", "on", "twon.tree", told=["no store 'twon'", "'town'"])
            self.refused(here, 2, "capture", "on", "tree", told=["STORE.TABLE"])
            self.refused(here, 2, "capture", "list", "barn", told=["no store 'barn'"])
            self.refused(here, 2, "look", "house", "--after", "noon", told=["'noon' is not a position", "ISO 8601"])
            self.refused(here, 2, "look", "house", "--upto", "5", told=["beyond the head"])
            self.refused(here, 4, "check", "house", told=["has not begun", "plainstep step house"])
            self.refused(here, 4, "reload", "house", told=["has not begun"])

    def test_wrong_configuration(self) -> None:
        load = '[loads.t]\nfrom = "town.tree"\ninto = "house.t"\n'
        for text, told in (
            ("[stores\nurl = 1", ["not TOML", "line 1"]),
            (
                '[stores.town]\nurl = "sqlite:///town.db"\nspeed = 3',
                ["line 3", "unknown setting stores.town.speed"],
            ),
            ('[stores.town]\nurl = "sqlight:///town.db"', ["sqlight", "Did you mean sqlite:///"]),
            ('[stores.town]\nurl = "sqlite://town.db"', ["names no file", "sqlite:///town.db"]),
            ('[stores.town]\nurl = "sqlite:///${NOT_SET_ANYWHERE}"', ["line 2", "NOT_SET_ANYWHERE"]),
            ("[stores.town]\n", ["line 1", "stores.town.url is missing"]),
            (load, ["stores is missing"]),
            (
                TOML + load + "deletes = 'erase'",
                ["line 8", "loads.t.deletes is 'erase'", "'drop', 'flag' or 'ignore'"],
            ),
            (TOML + load + "frist = 'head'", ["line 8", "Did you mean 'first'?"]),
            (TOML + load + "key = 7", ["line 8", "loads.t.key"]),
            (
                TOML + load.replace("house.t", "hose.t"),
                ["no store 'hose'", "Did you mean 'house'?", "line 7"],
            ),
            (TOML + load.replace("house.t", "house"), ["names no table", "line 7"]),
            (TOML + load.replace("house.t", "town.tree"), ["into itself"]),
            (TOML + load + load.replace("loads.t", "loads.u"), ["line 10", "u and t merge into one table"]),
        ):
            with self.subTest(text), Town(TREE) as here:
                here.config.write_text(text)
                self.refused(here, 2, "status", told=told)
        with Town() as here:
            here.config.unlink()
            self.refused(here, 2, "status", told=["There is no file", "-c FILE"])

    def test_wrong_stores(self) -> None:
        with Town() as here:
            self.refused(here, 1, "step", "house", told=["no file", "town.db"])
            (here.path / "town.db").write_text("not a database, but long enough to be taken for one" * 50)
            self.refused(here, 1, "step", "house", told=["not an SQLite database"])
        with Town(TREE) as here:
            self.refused(
                here,
                4,
                "step",
                "house",
                told=["Capture is off for town.tree", "plainstep capture on town.tree"],
            )
            here.project.capture_on("town.tree")
            (here.path / "house.duckdb").write_text("not a database either" * 1000)
            self.refused(here, 1, "step", "house", told=["not a DuckDB database"])
            here.config.write_text(here.config.read_text() + '[loads.w]\nfrom = "town.tree"\ninto = "shed.w"\nkey = ["z"]\n'
                                   '[loads.v]\nfrom = "town.tree"\ninto = "shed.v"\nkey = ["a"]\n')  # fmt: skip
            self.refused(here, 2, "step", "w", told=["'z', which town.tree does not have", "[loads.w]"])
            self.refused(here, 4, "step", "v", told=["captured by k"])

    def test_wrong_targets(self) -> None:
        tables = {
            "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER)": ["lacks the column 'b'"],
            "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT, c TEXT)": ["a column 'c' of its own"],
            "CREATE TABLE tree (a INTEGER, b TEXT)": ["lacks the column 'k'"],
            "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b DATE)": [
                "column b of shed.tree is date32",
                "string arrives",
            ],
            "CREATE TABLE tree (k INTEGER, a INTEGER, b TEXT)": [
                "Nothing makes k unique",
                "CREATE UNIQUE INDEX",
            ],
        }
        for table, told in tables.items():
            with self.subTest(table), Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')") as here:
                here.project.capture_on("town.tree")
                here.sql(table, store="shed")
                self.refused(here, 4, "step", "shed", told=told)
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')") as here:
            here.project.capture_on("town.tree")
            here.sql(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", store="shed")
            self.refused(here, 4, "step", "shed", told=["already holds rows", "plainstep watermark shed --to head"])
            self.assertEqual(here.run("watermark", "shed", "--to", "head", "--yes").exit_code, 0)
            here.sql("UPDATE tree SET a = 5")
            here.project.step("shed")
            self.assertEqual(here.rows("shed"), [(1, 5, "oak"), (2, 2, "elm")])
            self.assertEqual(here.run("check", "shed").exit_code, 3)

    def test_a_row_without_a_key(self) -> None:
        with Town("CREATE TABLE tree (k TEXT PRIMARY KEY, a INTEGER)", "INSERT INTO tree VALUES (NULL, 1)") as here:
            here.project.capture_on("town.tree")
            self.refused(here, 4, "step", "shed", told=["no value in its key column 'k'"])


TOML = '[stores.town]\nurl = "sqlite:///town.db"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'

if __name__ == "__main__":
    unittest.main()
