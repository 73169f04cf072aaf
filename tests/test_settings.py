"""What plainstep.toml may say: whatever does not fit is refused with its line, and by its name."""

from __future__ import annotations

import tempfile
import tomllib
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import plainstep
from plainstep.copying import replace
from plainstep.settings.fields import Settings, fields_of
from plainstep.settings.layout import LayoutConfig
from plainstep.settings.load import LoadConfig
from plainstep.settings.models import Config, EngineConfig, GroupConfig, StoreConfig
from plainstep.settings.reading import Unfit, read_settings

TOML = """[stores.town]
url = "sqlite:///town.db"
[stores.house]
url = "duckdb:///house.duckdb"
[loads.tree]
from = "town.tree"
into = "house.tree"
"""
# No setting can be any of these: a time of day alone, and a table of them.
MISFITS = ("09:30:00", "[{ at = 09:30:00 }]", "{ deep = { at = 09:30:00 } }")

NEEDED = {"loads.x": {"from": "town.t", "into": "house.t"}, "stores.shed": {"url": "sqlite:///shed.db"}}


def refused(text: str) -> plainstep.ConfigError:
    """What is said of a file."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plainstep.toml"
        path.write_text(text)
        try:
            plainstep.load_project(path)
        except plainstep.ConfigError as error:
            return error
    raise AssertionError(f"nothing was refused of\n{text}")


def settings(model: type[Settings], table: str) -> Iterator[tuple[str, str]]:
    """Each setting of a table: the table that it stands in, and its name."""
    for one in fields_of(model):
        yield table, one.encode_name


class Misfits(unittest.TestCase):
    def test_every_setting_refuses_what_it_cannot_be(self) -> None:
        """By its name, with its line, in three lines at most; and a misspelt one is told the right name."""
        tables = (
            *settings(StoreConfig, "stores.shed"),
            *settings(LoadConfig, "loads.x"),
            *settings(LayoutConfig, "loads.tree.layout"),
            *settings(EngineConfig, "engine"),
            *settings(GroupConfig, "groups.all"),
        )
        self.assertGreater(len(tables), 80)
        for table, name in tables:
            for value in MISFITS:
                with self.subTest(table, name=name, value=value):
                    lines = [f"{one} = '{place}'\n" for one, place in NEEDED.get(table, {}).items() if one != name]
                    above = f"{TOML}[{table}]\n{''.join(lines)}"
                    error = refused(f"{above}{name} = {value}\n")
                    self.assertIn(f"line {len(above.splitlines()) + 1}: ", error.what)
                    self.assertIn(f"{table}.{name}", f"{error.what} {error.next}")
                    self.assertLessEqual(len(str(error).splitlines()), 3)
            with self.subTest(table, misspelt=name):
                error = refused(f"{TOML}[{table}]\n{name}_ = 1\n")
                self.assertIn(f"unknown setting {table}.{name}_", error.what)

    def test_what_is_said_of_a_value(self) -> None:
        for said, told in (
            ("key = ['tree_id', 7]", "loads.tree.key.1 is 7: expected `str`, got `int`"),
            ("types = { height_m = 3 }", "loads.tree.types.height_m is 3: expected `str`, got `int`"),
            ("at_most = 0", "loads.tree.at_most is 0: expected `int` >= 1"),
            ("at_most = '5'", "loads.tree.at_most is '5': expected `int`, got `str`"),
            ("stamp = 'yes'", "loads.tree.stamp is 'yes': expected `bool`, got `str`"),
            ("operations = ['insert', 'upsert']", "is 'upsert': write 'insert', 'update' or 'delete'"),
            ("first = 'beginning'", "loads.tree.first = 'beginning' was renamed to 'start'"),
            ("partition_zone = 'Oslo'", "is 'Oslo': it is not a time zone"),
            ("layout = 5", "loads.tree.layout holds settings of its own, not one value"),
            ("layout = { encodings = { at = 'hours' } }", "loads.tree.layout.encodings.at is 'hours': write 'base64', "),
            ("layout = { csv = { separator = ';;' } }", "layout.csv.separator is ';;': it is not one character"),
            ("layout = { settle = 'soon' }", "loads.tree.layout.settle is 'soon': it is not a length of time"),
            ("layout = { guessed = ['here'] }", "'here' is not a setting of a layout"),
            ("layout = { query = { head = 'x' } }", "loads.tree.layout.query.read is missing"),
            ("layout = { query = { read = 'x' } }", "the query 'head' is missing"),
            ("watch = ['a']", "watch is of the shape history, and this load's is mirror"),
            ("deliver = 7", "loads.tree.deliver is not valid: expected `str`, got `int`"),
            ("[engine]\nmemory = '5MiB'", "engine.memory is '5MiB': that is too little"),
            ("[groups.all]\nloads = []", "groups.all.loads is []: expected `array` of length >= 1"),
            ("[stores.shed]\nurl = 'sqlite:///x'\nwait = -1", "stores.shed.wait is not valid: expected `float` >= 0"),
            ("[stores]\nshed = 'sqlite:///x'", "stores.shed holds settings of its own"),
        ):  # fmt: skip
            with self.subTest(said):
                text = f"{said}\n{TOML}" if said.startswith("[stores]\n") else TOML + said
                self.assertIn(told, str(refused(text)))


class Read(unittest.TestCase):
    def test_one_may_stand_for_a_list_of_one(self) -> None:
        said = 'from = "a.b"\ninto = "c.d"\nkey = "k"\nby = "ward"\nshape = "rollup"\nmeasures = { n = "count(*)" }\n'
        load = read_settings(LoadConfig, tomllib.loads(said + "[layout]\nposition = 'p'\ninsert = true\nput = 3\n"))
        assert load.layout is not None
        self.assertEqual(
            (load.key, load.by, load.layout.position, load.layout.insert, load.layout.put),
            (["k"], ["ward"], ["p"], [True], [3]),
        )
        self.assertEqual((load.changes, load.first), ("table", "start"))  # which follow from the layout

    def test_settings_are_kept_apart_from_their_defaults(self) -> None:
        plain = read_settings(LoadConfig, {"from": "a.b", "into": "c.d"})
        said = read_settings(LoadConfig, {"from": "a.b", "into": "c.d", "deletes": "drop"})
        self.assertEqual(plain.named, {"source", "into"})
        self.assertEqual(said.named, {"source", "into", "deletes"})
        self.assertEqual(replace(said, key=["k"]).named, said.named)
        self.assertEqual(plain.meaning, said.meaning)
        layout = read_settings(LayoutConfig, {"position": "p", "settle": "5s", "csv": {"header": ["a"]}})
        self.assertEqual(layout.as_dict({"settle"}, defaults=False), {"position": ["p"], "csv": {"header": ["a"]}})

    def test_the_schema_knows_each_setting(self) -> None:
        schema: dict[str, Any] = plainstep.config_schema()["$defs"]
        for model in (Config, StoreConfig, LoadConfig, LayoutConfig, EngineConfig, GroupConfig):
            known = schema[model.__name__]["properties"]
            self.assertEqual(list(known), [one.encode_name for one in fields_of(model)])
            self.assertFalse(schema[model.__name__]["additionalProperties"])
        key = schema["LoadConfig"]["properties"]["key"]
        self.assertEqual(key["anyOf"], [{"type": "string"}, {"type": "array", "items": {"type": "string"}}])

    def test_a_table_that_is_no_table(self) -> None:
        for given in (5, "x", [1], None):
            with self.assertRaises(Unfit):
                read_settings(StoreConfig, given)
