"""A batch of rows as a feed sends them: columns, structs and JSON documents, reached by path."""

from __future__ import annotations

import json
import re
from collections.abc import Collection
from typing import Any

from plainstep.core import casting as values
from plainstep.core.arrays import Bools, flat, replaced, utc_time
from plainstep.core.layouts import documents
from plainstep.deferred import np, pa, pc
from plainstep.properties import cached_property

# Beside a feed's own columns: each row's position as text, its time out of another table, a whole line of JSON.
POSITION, TIME, LINE = "plainstep.position", "plainstep.time", "plainstep.line"
# Which partition a row is in, where no column of its own tells it.
PARTITION = "plainstep.partition"
# A document with the values that a row carries, where documents and patches became one; its columns may lie below, each by itself.
DOCUMENT = "plainstep.document"
# What is wrong with a row, where it was found out while it was read.
WRONG = "plainstep.wrong"


def as_sent(row: dict[str, Any]) -> dict[str, Any]:
    """A row without what was added to it as it was read; a line of JSON stays, for it holds what the row was."""
    own = {name.removeprefix(f"{DOCUMENT}."): value for name, value in row.items()}
    return {name: value for name, value in own.items() if not name.startswith("plainstep.") or name == LINE}


def with_column(rows: pa.Table, name: str, column: pa.Array | pa.ChunkedArray) -> pa.Table:
    """Rows with a column, in place of the one of that name if they have it."""
    place = rows.schema.get_field_index(name)
    return rows.append_column(name, column) if place < 0 else rows.set_column(place, name, column)


class Raw:
    """A batch of rows.

    Args:
        rows: its columns.

    Attributes:
        bad: what is wrong with rows, by their numbers.
    """

    def __init__(self, rows: pa.Table) -> None:
        self.rows = rows
        self.bad: dict[int, str] = {}
        if WRONG in rows.column_names:
            wrong = flat(rows[WRONG])
            self.bad |= {row: wrong[row].as_py() for row in np.flatnonzero(wrong.is_valid()).tolist()}
        self._read: dict[tuple[str, str], pa.Array] = {}

    def __len__(self) -> int:
        return int(self.rows.num_rows)

    def refuse(self, row: int, why: str) -> None:
        """Note what is wrong with a row. The first thing that is wrong is the one that is told."""
        self.bad.setdefault(row, why)

    def notes(self) -> pa.Array:
        """What is wrong with each row; null where nothing is."""
        return replaced(pa.nulls(len(self), pa.string()), self.bad)

    @cached_property
    def _names(self) -> set[str]:
        return set(self.rows.column_names)

    def _place(self, path: str) -> tuple[str, tuple[str, ...]]:
        """The column that a path begins with, and the rest of it."""
        if path in self._names:
            return path, ()
        parts = path.split(".")
        for cut in range(len(parts) - 1, 0, -1):
            if ".".join(parts[:cut]) in self._names:
                return ".".join(parts[:cut]), tuple(parts[cut:])
        return (LINE, tuple(parts)) if LINE in self._names and path != TIME else ("", ())

    def column_of(self, path: str) -> str:
        """The column that a path begins with; empty where there is none."""
        return self._place(path)[0]

    def has(self, path: str) -> bool:
        """Whether there may be values under a path."""
        column, inner = self._place(path)
        if not column:
            return False
        kind = self.rows.schema.field(column).type
        for part in inner:
            if not pa.types.is_struct(kind):
                return pa.types.is_string(kind) or pa.types.is_large_string(kind)
            if kind.get_field_index(part) < 0:
                return False
            kind = kind.field(part).type
        return True

    def documented(self, path: str) -> bool:
        """Whether a path leads into JSON documents, in which a field may be absent."""
        return LINE in self._names or self.within(path)

    def within(self, path: str) -> bool:
        """Whether a path leads into JSON documents that are yet to be read."""
        column, inner = self._place(path)
        return bool(column and inner) and not pa.types.is_struct(self.rows.schema.field(column).type)

    def read(self, kinds: dict[str, pa.DataType], whole: Collection[str] = ()) -> None:
        """Read all of these paths at once, which for documents is far cheaper than one by one; some of them as JSON."""
        wanted: dict[str, dict[tuple[str, ...], pa.DataType]] = {}
        for path, kind in kinds.items():
            column, inner = self._place(path)
            if self.within(path) and (path, str(kind)) not in self._read:
                wanted.setdefault(column, {})[inner] = kind
        for column, inside in wanted.items():
            found, wrong = documents.read(flat(self.rows[column]), inside, {self._place(path)[1] for path in whole})
            for row, why in wrong.items():
                self.refuse(row, why)
            for path, kind in kinds.items():
                place, inner = self._place(path)
                if place == column and inner in found:
                    self._read[path, str(kind)] = found[inner]

    def column(self, path: str) -> pa.Array:
        """The values under a path in the type in which they come; texts out of documents."""
        if self.within(path):
            return self.typed(path, pa.string())
        column, inner = self._place(path)
        if not column:
            return pa.nulls(len(self))
        found = flat(self.rows[column])
        return pc.struct_field(found, list(inner)) if inner else found

    def typed(self, path: str, kind: pa.DataType) -> pa.Array:
        """The values under a path in a type. Rows whose value does not fit are noted."""
        known = (path, str(kind))
        if known not in self._read:
            if self.within(path):
                self._read_one(path, kind)
            else:
                source = self.column(path)
                self._read[known], bad = values.fitted(source, kind)
                finer = getattr(source.type, "unit", "") == "ns"
                hint = f' (types = {{ "{path}" = "TEXT" }} in the load keeps nanoseconds)' if finer else ""
                for row in bad.tolist():
                    self.refuse(row, f"{path} is {values.shown(source, row)}, which is not a valid {kind}{hint}")
        return self._read[known]

    def _read_one(self, path: str, kind: pa.DataType) -> None:
        column, inner = self._place(path)
        texts = flat(self.rows[column])
        if pa.types.is_string(kind):  # numbers, too, are wanted as they are written
            found, wrong = documents.as_texts(texts, inner)
        else:
            columns, wrong = documents.read(texts, {inner: kind})
            found = columns[inner]
        for row, why in wrong.items():
            self.refuse(row, why)
        self._read[path, str(kind)] = found

    def texts(self, path: str) -> pa.Array:
        """The values under a path as texts."""
        return values.as_text(self.column(path))

    def times(self, path: str) -> pa.Array:
        """The values under a path as times in UTC: times, texts in ISO 8601, or seconds or parts of them since 1970."""
        found = self.column(path)
        if pa.types.is_integer(found.type):
            return _since_epoch(found)
        if pa.types.is_timestamp(found.type) and found.type.tz is None:
            return pc.assume_timezone(found.cast(pa.timestamp("us")), "UTC")
        kept, bad = values.fitted(found, utc_time())
        for row in bad.tolist():
            self.refuse(row, f"{path} is {values.shown(found, row)}, which is not a time")
        return kept

    def listed(self, path: str, names: dict[str, str], rows: pa.Array, asked: Bools) -> pa.Array:
        """What a column lists in some rows: a list, a JSON array, or words with commas or spaces.

        Args:
            path: where the column is.
            names: what each of the names that it may list means.
            rows: the rows.
            asked: of which of them it is asked.

        Returns:
            A list of what the names mean for each row that is asked of; all of them where it lists nothing; null for the others.
        """
        found = self.column(path).take(rows)
        if pa.types.is_list(found.type) or pa.types.is_large_list(found.type):
            sets = [set(value or ()) for value in found.to_pylist()]
            codes = np.where(found.is_valid().to_numpy(zero_copy_only=False), np.arange(len(found)), -1)
        else:
            coded = found if pa.types.is_dictionary(found.type) else values.as_text(found).dictionary_encode()
            sets = [set(_words(text)) for text in coded.dictionary.to_pylist()]
            codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        known = self._known(names)
        for code, said in enumerate(sets):
            strange = min(said - known, default="")
            for place in np.flatnonzero(codes == code).tolist() if said - known else ():
                self.refuse(rows[place].as_py(), f"{path} names {strange!r}, which is not a column of the row")
        lists = [[column for name, column in names.items() if name in said] for said in sets]
        every = pa.array([*lists, list(names.values())], pa.list_(pa.string()))
        return every.take(pa.array(np.where(codes < 0, len(lists), codes), mask=~asked))

    def _known(self, names: dict[str, str]) -> set[str]:
        return {*names, *self._names, *(name.rpartition(".")[2] for name in names)}

    def present(self, paths: dict[str, str], rows: pa.Array) -> dict[str, Bools]:
        """For each name, in which rows the document has the field, if only as null."""
        masks = {name: np.ones(len(rows), dtype=np.bool_) for name in paths}
        inside: dict[str, dict[str, tuple[str, ...]]] = {}
        for name, path in paths.items():
            if self.within(path):
                column, inner = self._place(path)
                inside.setdefault(column, {})[name] = inner
            elif LINE in self._names:
                inside.setdefault(LINE, {})[name] = tuple(path.split("."))
        for column, fields in inside.items():
            found = documents.present(flat(self.rows[column]).take(rows), list(fields.values()))
            masks |= {name: found[inner] for name, inner in fields.items()}
        return masks


def _words(text: str | None) -> list[str]:
    if text and text.lstrip().startswith("["):
        return [str(word) for word in json.loads(text)]
    return [word for word in re.split(r"[,;\s]+", text or "") if word]


def _since_epoch(column: pa.Array) -> pa.Array:
    """Whole numbers as times: their size tells whether they count seconds, or thousandths, and so on."""
    largest = pc.max(pc.abs(column)).as_py() or 0
    unit = next((unit for unit, bound in (("s", 10**11), ("ms", 10**14), ("us", 10**17)) if largest < bound), "ns")
    return column.cast(pa.int64()).cast(pa.timestamp(unit, "UTC")).cast(utc_time(), safe=False)
