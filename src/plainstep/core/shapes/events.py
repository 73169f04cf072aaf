"""Events: changes that fit a rule, as messages in an outbox, from which they are delivered after the commit."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import cache, lru_cache
from operator import itemgetter
from typing import Any

from plainstep.core.arrays import numbers, utc_time
from plainstep.core.changes.batch import Changes, gathered
from plainstep.core.changes.filter import condition
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.json_values import finite, plain
from plainstep.core.shapes.base import StepContext, TargetReader, TargetTable, WindowParts
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import np, pa
from plainstep.sql.expressions import checked, names_in

# An event waits until it is sent; then its state is "sent", or "quarantined" if it could not be sent for too long.
WAITING = "waiting"


@cache
def outbox_schema() -> pa.Schema:
    """The columns of an outbox."""
    return pa.schema(
        [
            ("id", pa.string()),
            ("type", pa.string()),
            ("source", pa.string()),
            ("subject", pa.string()),
            ("time", utc_time()),
            ("change_number", pa.int64()),
            ("position", pa.int64()),
            ("data", pa.string()),
            ("step_number", pa.int64()),
            ("state", pa.string()),
            ("tries", pa.int64()),
            ("try_again_at", utc_time()),
            ("problem", pa.string()),
            ("sent_at", utc_time()),
        ]
    )


_encode = json.JSONEncoder(default=plain, ensure_ascii=False).encode
# Changes that are judged at a time: each becomes a text, of which there may be no more than fits the memory.
AT_ONCE = 1 << 17
# What a rule's condition may name.
NAMES = ("was", "now", "op", "time", "txn")


@dataclass(frozen=True)
class Rule:
    """A rule.

    Attributes:
        name: the type of the events that it makes.
        when: a condition in SQL on ``was`` and ``now``; empty for every change.
    """

    name: str
    when: str = ""


@dataclass(frozen=True)
class Events:
    """Messages.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        rules: the rules.
        source: where the events come from, as their receivers see it.
        every_change: whether every change may be an event; otherwise every net change may.
    """

    schema: pa.Schema
    key: tuple[str, ...]
    rules: tuple[Rule, ...]
    source: str
    every_change: bool = True

    placed = True
    by_key = False
    keeps_rows = False
    gone = ""

    @property
    def old_values(self) -> bool:
        """Whether a rule asks for old values."""
        return any("was" in names_in(rule.when, f"rules.{rule.name}") for rule in self.rules if rule.when)

    def tables(self) -> list[TargetTable]:
        """The outbox."""
        _refuse_misfits(self.rules, pa.schema([(field.name, field.type) for field in self.schema]))
        return [TargetTable("", outbox_schema(), ("id",))]

    def names_of(self, column: str) -> list[str]:
        """None of an outbox's columns is the source's."""
        return []

    def first(self, rows: Iterator[pa.RecordBatch], now: StepContext) -> list[Edits]:
        """Nothing: rows that are there already are not changes."""
        return [Edits()]

    def rounds(self, found: WindowParts, now: StepContext, held: TargetReader) -> Iterator[list[Edits]]:
        """A message for each change that fits a rule, in the order of the changes."""
        for some in gathered(found.changes(), AT_ONCE):
            rows = list(self._messages(some, found.numbering, now))
            rows.sort(key=itemgetter("change_number"))  # those of several rules are made one after the other
            messages = pa.Table.from_pylist(rows, outbox_schema())
            yield [Edits(put=messages, new=messages.num_rows, strict=False)]

    def _messages(self, changes: Changes, numbering: PositionIndex, now: StepContext) -> Iterator[dict[str, Any]]:
        for rule in self.rules:
            fits = condition(changes, rule.when) if rule.when else np.ones(len(changes), dtype=np.bool_)
            fits &= changes.op() != Op.TRUNCATE
            fitting = changes.table.filter(pa.array(fits))
            seq = numbers(fitting["seq"])
            places = {
                "position": pa.array(numbering.positions(seq)),
                "label": pa.array(numbering.labels(seq), pa.string()),
            }
            rows = pa.table({name: fitting[name] for name in ("op", "seq", "at")} | places).to_pylist()
            sent = fitting["given"].to_pylist() if "given" in fitting.column_names else [None] * len(rows)
            for row, was, new, given in zip(rows, _images(fitting, WAS), _images(fitting, NOW), sent, strict=True):
                if given is not None:  # a value that was not sent is not a null
                    new = {name: value for name, value in new.items() if name in given or name in self.key}
                yield self._message(rule, row, was, new, now)

    def _message(
        self, rule: Rule, row: dict[str, Any], was: dict[str, Any] | None, new: dict[str, Any] | None, now: StepContext
    ) -> dict[str, Any]:
        op = Op(row["op"])
        was = was if op in (Op.UPDATE, Op.DELETE) else None
        new = new if op != Op.DELETE else None
        key = {name: (new or was or {}).get(name) for name in self.key}
        data = {"op": op.word, "key": key, "was": was, "now": new}
        return {
            # The same change makes the same event, however often it is read: a receiver knows a repeat by it.
            "id": f"{rule.name}-{row['label']}-{op.word}-{now.identity}",
            "type": rule.name,
            "source": self.source,
            "subject": "/".join(str(value) for value in key.values()),
            "time": row["at"] or now.at,
            "change_number": row["seq"],
            "position": row["position"],
            "data": _encode(data),
            "step_number": now.step,
            "state": WAITING,
            "tries": 0,
            "try_again_at": now.at,
            "problem": None,
            "sent_at": None,
        }

    def living(self, held: TargetReader) -> Iterator[pa.RecordBatch]:
        """Nothing: an outbox holds no rows of the source."""
        return iter(())


@lru_cache(100)
def _refuse_misfits(rules: tuple[Rule, ...], schema: pa.Schema) -> None:
    """Refuse rules that are not conditions over these columns; what fits, fits at every step."""
    nothing = {side + field.name: pa.array([], field.type) for side in (WAS, NOW) for field in schema}
    begin = {"op": pa.array([], pa.int8()), "seq": pa.array([], pa.int64()), "at": pa.array([], utc_time())}
    for rule in rules:
        if rule.when:
            checked(rule.when, NAMES, f"rules.{rule.name}")
            condition(Changes(pa.table(begin | nothing)), rule.when)


def _images(changes: pa.Table, side: str) -> list[dict[str, Any]]:
    """Each change's row before, or after it."""
    names = [name for name in changes.column_names if name.startswith(side)]
    rows: list[dict[str, Any]] = changes.select(names).rename_columns([name[len(side) :] for name in names]).to_pylist()
    floats = [name[len(side) :] for name in names if pa.types.is_floating(changes.schema.field(name).type)]
    for row in rows:
        for name in floats:
            row[name] = finite(row[name])
    return rows or [{}] * changes.num_rows


def cloud_event(row: dict[str, Any]) -> dict[str, Any]:
    """A message of the outbox as a CloudEvent 1.0 (https://github.com/cloudevents/spec)."""
    time: datetime = row["time"]
    return {
        "specversion": "1.0",
        "id": row["id"],
        "source": row["source"],
        "type": row["type"],
        "subject": row["subject"],
        "time": time.isoformat().replace("+00:00", "Z"),
        "datacontenttype": "application/json",
        "data": json.loads(row["data"]),
    }
