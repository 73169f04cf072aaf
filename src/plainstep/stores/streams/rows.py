"""What is read of messages: their values by a format, with what stands beside them as far as it is wanted."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any

from plainstep.core.arrays import flat, utc_time
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.rows import LINE, POSITION, TIME, WRONG
from plainstep.deferred import pa
from plainstep.errors import NoRows, Refused
from plainstep.formats.columns import in_columns, together
from plainstep.formats.sniff import typed
from plainstep.formats.values import NOTHING
from plainstep.properties import cached_property
from plainstep.stores.document_fields import kind_read, read_fields
from plainstep.stores.streams.beside import (
    BESIDE,
    BYTES,
    KEY,
    TOMBSTONE,
    Beside,
    Sampled,
    bytes_of,
    is_beside,
    leads_to,
)
from plainstep.stores.streams.log import Labelled, Messages, some_of
from plainstep.stores.streams.sniff import written_as

if TYPE_CHECKING:
    from plainstep.formats.values import Values, Wrong
    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.streams.log import MessageLog

NO_VALUE = (
    'it has no value (a tombstone): skip = "message.tombstone" leaves such messages out, '
    'deleted = "message.tombstone" takes them for deletes'
)


class MessageRows:
    """Reads messages as rows.

    Args:
        place: the feed's name, for messages.
        layout: how they are read.
        samples: tells some messages of every log.
        values: reads their values.
        keys: reads their keys; None where keys are text.
        known: further columns that values may have, by what their schemas say.
        form: the format of the values of a schema, by its number; empty where no registry tells.
        beside: what stands beside values, as far as there is anything.
    """

    def __init__(
        self,
        place: str,
        layout: LayoutConfig,
        samples: Callable[[], list[Sampled]],
        values: Values,
        keys: Values | None,
        known: Callable[[], pa.Schema],
        form: Callable[[int], str],
        beside: tuple[str, ...] = BESIDE,
    ) -> None:
        self.place, self.layout, self._samples = place, layout, samples
        self._values, self._keys, self._known, self._form = values, keys, known, form
        self._may_stand_beside = beside
        self._wanted: dict[str, pa.DataType] = {}
        self._names: tuple[str, ...] = ()
        self._asked: dict[str, pa.DataType | None] | None = None
        self._format = layout.message.value if layout.message else "json"
        self.is_typed = self._format != "csv"

    @cached_property
    def _some(self) -> list[Sampled]:
        return [one for one in self._samples() if len(one.messages)]

    def some_of(self, log: MessageLog) -> list[Sampled]:
        """Some messages of one log: those that are known already, if they are some of its."""
        known = [one for one in self._some if (one.log.topic, one.log.partition) == (log.topic, log.partition)]
        return known or [Sampled(log, some_of(log))]

    @cached_property
    def _beside(self) -> Beside:
        return Beside(self._keys, self._some)

    @cached_property
    def sampled(self) -> pa.Table:
        """Some rows of every log, with all that stands beside them."""
        return self.sample_of(self._some)

    def sample_of(self, samples: list[Sampled]) -> pa.Table:
        """Some messages as rows, with all that stands beside them.

        Raises:
            NoRows: there are none.
        """
        parts = [self._sample_of(one) for one in samples if len(one.messages)]
        if not parts:
            raise NoRows(
                f"There are no messages in {self.place} yet.",
                "The columns of its rows are not known.",
                "Check the name, or run the command again when there are some.",
            )
        found = together([*parts, self._known().empty_table()])
        found = found.drop_columns([NOTHING]) if NOTHING in found.column_names else found
        return _typed(found) if self._format == "csv" else found

    def _sample_of(self, one: Sampled) -> pa.Table:
        log, messages = one.log, one.messages
        values, _ = self._values.read(messages.values)
        names = [name for name in self._may_stand_beside if name != BYTES and (name != KEY or any(messages.keys))]
        names += [TIME] if any(time is not None for time in messages.times) else []
        return _with(values, self._beside.columns(log, messages, [*names, POSITION], {}))

    def written(self) -> dict[str, Any]:
        """How messages seem to be written, as settings of a layout; empty: as usual."""
        found = written_as([one.messages for one in self._some], self._form)
        return {"message": found} if found else {}

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows. (Each partition is told, and all are read by this.)"""
        if kinds == self._asked:
            return
        self._asked = dict(kinds)
        fields = fields_of(self.sampled, (self.layout.now, self.layout.was))
        self._wanted = {
            path: kind or kind_read(path, self.layout, self.sampled, fields)
            for path, kind in kinds.items()
            if not is_beside(path)
        }
        there = [name for name in BESIDE if name in self.sampled.column_names]
        self._names = tuple(name for name in there if any(leads_to(path, name) for path in kinds))
        self.__dict__.pop("schema", None)

    @cached_property
    def schema(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        sampled = self.sampled.schema
        if self._format == "json":
            columns = [pa.field(path, kind) for path, kind in self._wanted.items()]
            columns += [pa.field(LINE, pa.string())] if self.layout.missing_field != "null" else []
        else:
            heads = {path.split(".")[0] for path in self._wanted} | set(self._wanted)
            columns = [pa.field(one.name, self._read_as(one.type)) for one in sampled if one.name in heads]
        columns += [sampled.field(name) for name in self._names]
        columns += [] if self.layout.time else [pa.field(TIME, utc_time())]
        return pa.schema([*columns, (BYTES, pa.string()), (WRONG, pa.string()), sampled.field(POSITION)])

    def _read_as(self, kind: pa.DataType) -> pa.DataType:
        """The type in which a column is read: what a line of CSV holds is made what it is wanted as row by row."""
        return pa.string() if self._format == "csv" or pa.types.is_null(kind) else kind

    def read(self, log: Labelled, messages: Messages) -> pa.Table:
        """Messages as rows.

        Raises:
            Refused: they have columns that cannot be read together with the others.
        """
        values, wrong = self._values.read(messages.values)
        if self._format == "json":
            values, wrong = self._fields(flat(values[LINE]), wrong)
        elif not self.layout.columns:
            self._refuse_unknown_columns(values)
        if TOMBSTONE not in self._names:
            wrong |= {row: NO_VALUE for row, value in enumerate(messages.values) if value is None}
        names = [name for name in self.schema.names if is_beside(name) or name in (TIME, POSITION)]
        beside = self._beside.columns(log, messages, [name for name in names if name != BYTES], wrong)
        notes = pa.array(
            [wrong.get(row) for row in range(len(messages))] if wrong else [None] * len(messages), pa.string()
        )
        table = _with(values, beside | {BYTES: bytes_of(messages, wrong), WRONG: notes})
        return _in_columns(table, self.schema, self.place)

    def _fields(self, lines: pa.Array, wrong: Wrong) -> tuple[pa.Table, Wrong]:
        """The fields of documents that are wanted; and what is wrong with rows."""
        columns = read_fields(lines, self._wanted, self.layout)
        notes = columns.pop(WRONG, None)
        bad = {row: f"its value: {why}" for row, why in enumerate(notes.to_pylist()) if why} if notes else {}
        return pa.table(columns or {NOTHING: pa.nulls(len(lines))}), bad | wrong

    def _refuse_unknown_columns(self, values: pa.Table) -> None:
        """Refuse values whose schema has columns that were not known when it was decided which of them to read."""
        known = set(_leaves(self.sampled.schema))
        new = [path for path in _leaves(values.schema) if path != NOTHING and path not in known]
        if new:
            raise Refused(
                f"Messages of {self.place} have a column {new[0]!r}, which was not known when this began.",
                "Their schema is a new one, or not one of the topic's. Nothing of them was merged.",
                "Run the command again; if that says the same, list the row's columns in the layout: columns = [...].",
            )


def _with(table: pa.Table, columns: dict[str, pa.Array | None]) -> pa.Table:
    """A table with further columns, without those that there are not."""
    for name, column in columns.items():
        if column is not None:
            table = table.append_column(name, column)
    return table


def _in_columns(table: pa.Table, schema: pa.Schema, place: str) -> pa.Table:
    """Rows in the columns that all rows have."""
    try:
        return in_columns(table, schema)
    except (pa.ArrowException, pa.ArrowNotImplementedError) as error:
        raise Refused(
            f"The columns of some messages of {place} are of other types than they were said to be: {str(error)[:120]}.",
            "Nothing of them was merged.",
            "Run the command again: their schema came meanwhile.",
        ) from None


def _leaves(fields: Iterable[pa.Field], above: str = "") -> Iterator[str]:
    """The paths of columns, and of the members of structs."""
    for field in fields:
        if pa.types.is_struct(field.type):
            yield from _leaves(field.type, f"{above}{field.name}.")
        else:
            yield above + field.name


def _typed(rows: pa.Table) -> pa.Table:
    """Lines of CSV, in the types that their texts seem to have; what stands beside them as it is."""
    own = [name for name in rows.column_names if not is_beside(name) and not name.startswith("plainstep.")]
    rest = [name for name in rows.column_names if name not in own]
    return _with(typed(rows.select(own)), {name: rows[name] for name in rest})
