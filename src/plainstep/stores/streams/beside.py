"""What stands beside the value of a message: its key, its headers, where it stands. Columns of these names tell it."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from plainstep.core.arrays import flat, utc_time
from plainstep.core.layouts import documents
from plainstep.core.layouts.paths import nested
from plainstep.core.layouts.rows import LINE, POSITION, TIME
from plainstep.deferred import pa
from plainstep.formats.values import NOTHING, VALUE, JsonValues, texts_of
from plainstep.stores.streams.log import Labelled, Messages

if TYPE_CHECKING:
    from plainstep.formats.values import Values, Wrong

KEY, HEADERS, OFFSET, PARTITION, TOPIC, TOMBSTONE = (
    f"message.{name}" for name in ("key", "headers", "offset", "partition", "topic", "tombstone")
)
# Values that cannot be read, in base64.
BYTES = "message.value"
BESIDE = (KEY, HEADERS, OFFSET, PARTITION, TOPIC, TOMBSTONE, BYTES)
# Bytes of a message that are shown where it cannot be read.
SHOWN = 1 << 16


@dataclass(frozen=True)
class Sampled:
    """Some messages of one log, to learn from."""

    log: Labelled
    messages: Messages


def is_beside(path: str) -> bool:
    """Whether a path leads to what stands beside a message's value."""
    return any(leads_to(path, name) for name in BESIDE)


def leads_to(path: str, name: str) -> bool:
    """Whether a path is a column, or leads into it."""
    return path == name or path.startswith(f"{name}.")


class Beside:
    """Reads what stands beside messages' values.

    Args:
        keys: reads their keys; None where keys are text.
        samples: some messages, which tell what fields keys have, and which headers there are.
    """

    def __init__(self, keys: Values | None, samples: Sequence[Sampled]) -> None:
        self._keys = keys
        self._headers = sorted({name for one in samples for some in one.messages.headers for name in some})
        self._fields: dict[tuple[str, ...], pa.DataType] = {}
        if isinstance(keys, JsonValues):
            found, _ = keys.read([key for one in samples for key in one.messages.keys])
            self._fields = documents.kinds_of(flat(found[LINE]))

    def columns(
        self, log: Labelled, messages: Messages, names: Sequence[str], wrong: Wrong
    ) -> dict[str, pa.Array | None]:
        """Some columns; None for one that there is not. What is wrong with keys is added to what is wrong with messages."""
        count = len(messages)
        made: dict[str, Callable[[], pa.Array | None]] = {
            KEY: lambda: self._key(messages, wrong),
            HEADERS: lambda: self._header(messages),
            OFFSET: lambda: offsets_of(log, messages),
            PARTITION: lambda: pa.array([log.partition] * count, pa.string()) if log.partition else None,
            TOPIC: lambda: pa.array(messages.topics or [log.topic] * count, pa.string()),
            TOMBSTONE: lambda: pa.array([value is None for value in messages.values], pa.bool_()),
            TIME: lambda: pa.array(messages.times, pa.int64()).cast(utc_time()),
            POSITION: lambda: offsets_of(log, messages),
        }
        return {name: made[name]() for name in names}

    def _key(self, messages: Messages, wrong: Wrong) -> pa.Array:
        if self._keys is None:
            found, bad = texts_of(messages.keys)
        else:
            table, bad = self._keys.read(messages.keys)
            columns = [name for name in table.column_names if name != NOTHING]
            if LINE in columns:
                found = self._documents(flat(table[LINE]), bad)
            elif columns == [VALUE]:
                found = flat(table[VALUE])
            elif columns:
                found = pa.StructArray.from_arrays([flat(table[name]) for name in columns], columns)
            else:
                found = pa.nulls(len(messages))
        for row, why in bad.items():
            wrong.setdefault(row, f"its key: {why}")
        return found

    def _documents(self, texts: pa.Array, wrong: Wrong) -> pa.Array:
        """Keys that are JSON: objects as structs, all else as texts."""
        if not self._fields:
            return _scalars(texts, wrong)
        found, bad = documents.read(texts, self._fields)
        wrong |= bad
        return _struct(nested(found))

    def _header(self, messages: Messages) -> pa.Array | None:
        """Headers as a struct of texts: those that the sample has."""
        if not self._headers:
            return None
        told = messages.headers or [{}] * len(messages)
        columns = [texts_of([one.get(name) for one in told])[0] for name in self._headers]
        return pa.StructArray.from_arrays(columns, self._headers)


def offsets_of(log: Labelled, messages: Messages) -> pa.Array:
    """Offsets, as numbers where they are shown so."""
    if log.is_numbered:
        return pa.array(messages.offsets, pa.int64())
    return pa.array([log.label(offset) for offset in messages.offsets], pa.string())


def bytes_of(messages: Messages, wrong: Wrong) -> pa.Array:
    """The values of messages with which something is wrong."""
    if not wrong:
        return pa.nulls(len(messages), pa.string())
    told: list[str | None] = [None] * len(messages)
    for row in wrong:
        told[row] = base64.b64encode((messages.values[row] or b"")[:SHOWN]).decode()
    return pa.array(told, pa.string())


def _scalars(texts: pa.Array, wrong: Wrong) -> pa.Array:
    """Keys that are JSON, and no objects, as texts."""
    found: list[str | None] = []
    for row, text in enumerate(texts.to_pylist()):
        try:
            value = None if text is None else json.loads(text)
            found.append(value if value is None or isinstance(value, str) else text)
        except ValueError:
            wrong.setdefault(row, "it is not JSON")
            found.append(None)
    return pa.array(found, pa.string())


def _struct(columns: dict[str, object]) -> pa.Array:
    """Columns within objects, as structs."""
    parts = {name: _struct(one) if isinstance(one, dict) else one for name, one in columns.items()}
    return pa.StructArray.from_arrays(list(parts.values()), list(parts))
