"""Generated histories of a table, and the plain dictionary model that everything is held against."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa
from hypothesis import strategies as st

ROW = pa.schema([("k", pa.int64()), ("a", pa.int64()), ("b", pa.string())])
Row = dict[str, Any]

values = st.fixed_dictionaries(
    {"a": st.none() | st.integers(0, 3), "b": st.none() | st.sampled_from(["", "oak", "elm"])}
)
numbers = st.integers(0, 5)
acts = st.one_of(
    st.tuples(st.just("insert"), numbers, values),
    st.tuples(st.just("update"), numbers, values),
    st.tuples(st.just("rekey"), numbers, numbers),
    st.tuples(st.just("delete"), numbers, st.none()),
    st.tuples(st.just("truncate"), st.none(), st.none()),
)
histories = st.lists(acts, max_size=30)


def story(seed: int, keys: int, changes: int, rekeys: bool = True) -> list[tuple[str, Any, Any]]:
    """Many changes of some rows, as a table that people work on has them: mostly updates, nulls among the values."""
    chance = random.Random(seed)
    there: set[int] = set()
    found: list[tuple[str, Any, Any]] = []
    while len(found) < changes:
        key = chance.randrange(keys)
        row = {"a": chance.choice([None, *range(40)]), "b": chance.choice([None, "", "oak", "elm", "red oak", "ash"])}
        what = chance.choices(["update", "delete", "rekey"], [80, 14, 6 * rekeys])[0] if key in there else "insert"
        other = chance.randrange(keys)
        if what == "rekey" and other in there:
            continue
        found.append((what, key, other if what == "rekey" else None if what == "delete" else row))
        there = there - {key} if what in ("delete", "rekey") else there | {key}
        there |= {other} if what == "rekey" else set()
    return found


@dataclass
class Model:
    """A table as a dictionary, which writes down its changes as a perfect feed would."""

    rows: dict[int, Row] = field(default_factory=dict)
    changes: list[Row] = field(default_factory=list)

    def act(self, what: str, key: Any, value: Any) -> bool:
        """Do one thing if it is possible; say whether it was."""
        if what == "truncate":
            self.rows.clear()
            self._note("truncate", None, None)
        elif what == "insert" and key not in self.rows:
            self.rows[key] = {"k": key, **value}
            self._note("insert", None, self.rows[key])
        elif what == "update" and key in self.rows:
            was, self.rows[key] = self.rows[key], {"k": key, **value}
            self._note("update", was, self.rows[key])
        elif what == "rekey" and key in self.rows and value not in self.rows:
            was = self.rows.pop(key)
            self.rows[value] = was | {"k": value}
            self._note("update", was, self.rows[value])
        elif what == "delete" and key in self.rows:
            self._note("delete", self.rows.pop(key), None)
        else:
            return False
        return True

    def _note(self, op: str, was: Row | None, now: Row | None) -> None:
        self.changes.append({"op": op, "seq": len(self.changes) + 1, "was": was, "now": now})

    def play(self, history: list[tuple[str, Any, Any]]) -> Model:
        for act in history:
            self.act(*act)
        return self


def flat(changes: list[Row], schema: pa.Schema = ROW) -> pa.Table:
    """Changes of the model in the flat form."""
    columns: dict[str, Any] = {
        "op": pa.array([change["op"] for change in changes], pa.string()),
        "seq": pa.array([change["seq"] for change in changes], pa.int64()),
    }
    if any("given" in change for change in changes):
        columns["given"] = pa.array([change.get("given") for change in changes], pa.list_(pa.string()))
    for side in ("was", "now"):
        for name in schema.names:
            column = [(change[side] or {}).get(name) for change in changes]
            columns[f"{side}.{name}"] = pa.array(column, schema.field(name).type)
    return pa.table(columns)


def merged(rows: dict[Any, Row], net: Any) -> dict[Any, Row]:
    """A dictionary of rows after net changes: the simplest target there is."""
    after = {} if net.truncated else dict(rows)
    for row in net.to_arrow().to_pylist():
        key = row[net.key[0]] if len(net.key) == 1 else tuple(row[name] for name in net.key)
        if row["op"] == "delete":
            after.pop(key, None)
            continue
        given = row.get("given") or net.others
        fresh = {name: row[f"now.{name}"] for name in given}
        after[key] = {**after.get(key, {}), **fresh, **{name: row[name] for name in net.key}}
    return after
