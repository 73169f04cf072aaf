"""The watermarks and the ledger, as tables that every SQL target keeps beside its rows."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any

from plainstep.core.positions import MergedTable, Watermark
from plainstep.errors import Refused
from plainstep.properties import cached_property
from plainstep.stores.dialect import STANDARD, Dialect
from plainstep.stores.records import LedgerEntry

WATERMARK_COLUMNS = [
    "identity",
    "position",
    "token",
    "changed_at",
    "step",
    "columns",
    "gone_columns",
    "made_by",
    "tables",
]
# The format of these tables. Format 1 kept no number of its own, and no tables with its watermarks; up to format 2 two of
# the tables had other names, and no watermark knew that another load had taken its table over.
FORMAT = RENAMED = 3
EARLIER_NAMES = {"watermarks": "marks", "quarantine": "aside"}
# What a watermark of an earlier format does not hold, and what that means.
LACKING = {1: {"tables": "'[]'"}}
# The columns of a step, each with what of its dialect's types it has; those that may be null have no "!".
STEP_COLUMNS = {
    "load_name": "text!", "step": "number!", "kind": "text!", "identity": "text!", "after_position": "number", "upto_position": "number!",
    "changes": "number!", "inserts": "number!", "updates": "number!", "deletes": "number!", "put": "number!", "patch": "number!",
    "dropped": "number!", "append": "number!", "added": "number!", "contradictions": "number!", "seconds": "real!",
    "stepped_at": "text!", "note": "text!", "after_shown": "text!", "upto_shown": "text!", "read_seconds": "real!", "lag_seconds": "real",
}  # fmt: skip
COLUMNS = list(STEP_COLUMNS)
# Kinds of steps that ledgers of before hold under other names.
RENAMED_KINDS = {"mark": "watermark", "mend": "repair", "back": "retry"}
MARKED = {
    "load_name": "text!", "identity": "text!", "position": "number!", "token": "text!", "changed_at": "text", "step": "number!",
    "columns": "text!", "gone_columns": "text!", "made_by": "text!",
}  # fmt: skip
QUARANTINED = {"load_name": "text!", "place": "text!", "reason": "text!", "content": "text!", "step": "number!"}


@dataclass(frozen=True)
class Books:
    """The SQL of these tables, in one store's words.

    Attributes:
        prefix: what the tables' names begin with, as SQL writes them.
        watermarks, ledger, refusals, quarantine, formats: the tables' names.
        dialect: how the store writes SQL.
        version: the format that the tables have.
    """

    prefix: str
    watermarks: str
    ledger: str
    refusals: str
    quarantine: str
    formats: str
    dialect: Dialect = STANDARD
    version: int = FORMAT

    @staticmethod
    def under(prefix: str, dialect: Dialect = STANDARD, version: int = FORMAT) -> Books:
        """The tables whose names begin so, as they are called in a format."""
        earlier = EARLIER_NAMES if version < RENAMED else {}

        def table(name: str) -> str:
            return prefix + earlier.get(name, name)

        names = table("watermarks"), table("ledger"), table("refusals"), table("quarantine"), table("formats")
        return Books(prefix, *names, dialect, version)

    def in_format(self, version: int) -> Books:
        """The same tables as they are called in another format."""
        return Books.under(self.prefix, self.dialect, version)

    @property
    def tables(self) -> tuple[str, ...]:
        """The tables' names."""
        return self.watermarks, self.ledger, self.refusals, self.quarantine, self.formats

    @property
    def parameter(self) -> str:
        """What stands for a value."""
        return self.dialect.parameter

    def declared(self, columns: dict[str, str], key: Sequence[str] = ()) -> list[str]:
        """Columns as they are declared."""
        return [
            f"{name} {self._type(kind.removesuffix('!'), name in key)}{' NOT NULL' if kind.endswith('!') else ''}"
            for name, kind in columns.items()
        ]

    def _type(self, kind: str, in_key: bool) -> str:
        declared: str = getattr(self.dialect, kind)
        return (self.dialect.key_text or declared) if in_key and kind == "text" else declared

    def _table(self, name: str, columns: dict[str, str], key: Sequence[str] = (), *more: str) -> str:
        keyed = [self.dialect.keyed_text.format(column=one) if columns[one].startswith("text") else one for one in key]
        primary = [f"PRIMARY KEY ({', '.join(keyed)})"] if key else []
        declared = ", ".join([*self.declared(columns, key), *more, *primary])
        return f"CREATE TABLE {self.dialect.if_absent}{name} ({declared})"

    def of(self, version: int | None) -> Books:
        """The same tables in the format that was found; None where they are not there yet.

        Raises:
            Refused: a later release made them.
        """
        if version is None or version == self.version:
            return self
        if version > FORMAT:
            raise Refused(
                f"The watermarks kept beside this target have format {version}, and this release knows formats up to {FORMAT}.",
                "A later release of Plain Step wrote them.",
                "Use that release: pip install --upgrade plainstep.",
            )
        return self.in_format(version)

    @cached_property
    def find_version(self) -> str:
        """The query for the format of these tables, where they keep one."""
        return f"SELECT version FROM {self.formats} WHERE part = 'target'"

    @cached_property
    def migrations(self) -> tuple[str, ...]:
        """Statements that bring tables of this format to the present one."""
        now = self.in_format(FORMAT)
        with_tables = (
            self.create_formats,
            f"ALTER TABLE {self.watermarks} ADD COLUMN tables {self.dialect.text} DEFAULT '[]'",
            self.note_format("target", 2),
        )
        renamed = (
            f"ALTER TABLE {self.watermarks} RENAME TO {now.watermarks.rpartition('.')[2]}",
            f"ALTER TABLE {self.quarantine} RENAME TO {now.quarantine.rpartition('.')[2]}",
            f"UPDATE {self.formats} SET version = {RENAMED} WHERE part = 'target'",
        )
        return (*(with_tables if self.version < 2 else ()), *(renamed if self.version < RENAMED else ()))

    @cached_property
    def create_formats(self) -> str:
        """Makes the table of formats: a file may be a source and a target."""
        return self._table(self.formats, {"part": "text!", "version": "number!"}, ["part"])

    def note_format(self, part: str, version: int) -> str:
        """Notes the format of a part, where none is noted."""
        before, behind = self.dialect.ignoring
        return f"{before} {self.formats} (part, version) VALUES ('{part}', {version}){behind.format(column='part')}"

    @cached_property
    def create(self) -> tuple[str, ...]:
        """Statements that make the tables where they are not there yet."""
        return (
            self.create_formats,
            self.note_format("target", FORMAT),
            self._table(self.watermarks, MARKED, ["load_name"], f"tables {self.dialect.text} DEFAULT ('[]')"),
            self._table(self.ledger, STEP_COLUMNS, ["load_name", "step"]),
            # A refusal that comes back at every try is kept once.
            self._table(self.refusals, STEP_COLUMNS, [] if self.dialect.key_text else ["load_name", "step", "note"]),
            self._table(self.quarantine, QUARANTINED),
        )

    @cached_property
    def find_quarantined(self) -> str:
        """The query for the rows of a load that are quarantined."""
        return f"SELECT place, reason, content, step FROM {self.quarantine} WHERE load_name = {self.parameter} ORDER BY step, place"

    @cached_property
    def quarantined(self) -> str:
        """A row that is quarantined."""
        return self.dialect.insertion(self.quarantine, list(QUARANTINED))

    @cached_property
    def forget_quarantined(self) -> str:
        """Forget the rows of a load that were quarantined at a place."""
        return f"DELETE FROM {self.quarantine} WHERE load_name = {self.parameter} AND place = {self.parameter}"

    @cached_property
    def find_watermark(self) -> str:
        """The query for a load's watermark."""
        return (
            f"SELECT {', '.join(self._watermark_columns())} FROM {self.watermarks} WHERE load_name = {self.parameter}"
        )

    def _watermark_columns(self, of: str = "") -> list[str]:
        """The columns of a watermark, in this format."""
        lacking = LACKING.get(self.version, {})
        return [lacking.get(name, of + name) for name in WATERMARK_COLUMNS]

    @cached_property
    def find_standing(self) -> str:
        """The query for every load's watermark and the step that set it."""
        watermarks = ", ".join(["m.load_name", *self._watermark_columns("m.")])
        steps = ", ".join(f"l.{name}" for name in COLUMNS)
        on = "l.load_name = m.load_name AND l.step = m.step"
        return f"SELECT {watermarks}, {steps} FROM {self.watermarks} m JOIN {self.ledger} l ON {on}"

    @cached_property
    def insert_watermark(self) -> str:
        """A load's first watermark; its values are those of ``watermark_values``."""
        return self.dialect.insertion(self.watermarks, [*WATERMARK_COLUMNS, "load_name"])

    @cached_property
    def move_watermark(self) -> str:
        """A load's next watermark, if the one before is still at the step that comes as the last value."""
        sets = ", ".join(f"{name} = {self.parameter}" for name in WATERMARK_COLUMNS)
        return f"UPDATE {self.watermarks} SET {sets} WHERE load_name = {self.parameter} AND step = {self.parameter}"

    @cached_property
    def note_tables(self) -> str:
        """Write down the tables that a load merged into."""
        return f"UPDATE {self.watermarks} SET tables = {self.parameter} WHERE load_name = {self.parameter}"

    def take_over(self, table: str, load: str) -> tuple[str, list[str]]:
        """Write down at every other load that merged into a table that this load does from here on."""
        begins = written_tables([MergedTable(table)]).partition(', "identity"')[0]  # its main table comes first
        sql = (
            f"UPDATE {self.watermarks} SET tables = {self.parameter} "
            f"WHERE load_name <> {self.parameter} AND substr(tables, 1, {len(begins)}) = {self.parameter}"
        )
        return sql, [written_tables([MergedTable(table, taken_by=load)]), load, begins]

    @cached_property
    def insert_entry(self) -> str:
        """A ledger row; its values are those of ``entry_values``."""
        return self.dialect.insertion(self.ledger, COLUMNS)

    @cached_property
    def insert_refusal(self) -> str:
        """A step that was refused, unless the same one was; its values are those of ``entry_values``."""
        return self.dialect.insertion(self.refusals, COLUMNS, ignoring=True)

    def find_entries(self, load: str | None, limit: int | None, refused: bool = False) -> tuple[str, list[Any]]:
        """The query for the newest steps, or refused ones, newest first, with its parameters."""
        where = f" WHERE load_name = {self.parameter}" if load is not None else ""
        last = f" {self.dialect.first(limit)}" if limit is not None else ""
        order = "ORDER BY step DESC" if load is not None else "ORDER BY stepped_at DESC, load_name DESC, step DESC"
        table = self.refusals if refused else self.ledger
        sql = f"SELECT {', '.join(COLUMNS)} FROM {table}{where} {order}{last}"
        return sql, [load] if load is not None else []


EMBEDDED = Books.under("plainstep_")


class FoundBooks:
    """The tables of one target, in the format in which they were found.

    Args:
        books: the tables, in the present format.

    Attributes:
        settled: whether they were found in the present format.
    """

    def __init__(self, books: Books) -> None:
        self._books = books
        self.settled = False

    def books(self, version: Callable[[], int | None]) -> Books:
        """The tables in the format that they have, which is looked for until it is the present one: only then it stays.

        Args:
            version: looks for the format; None where the tables are not there yet.

        Raises:
            Refused: a later release made them.
        """
        if self.settled:
            return self._books
        found = version()
        self.settled = found == FORMAT
        return self._books.of(found)


def version_of(books: Books, there: Collection[str], first: Callable[[str], Sequence[Any] | None]) -> int | None:
    """The format of a target's tables, or None if they are not there yet.

    Args:
        books: the tables, in the present format.
        there: which of the tables are there that ``telling`` names.
        first: gives the first row of a query.
    """
    row = first(books.find_version) if books.formats in there else None
    if row:
        return int(row[0])
    return 1 if books.in_format(1).watermarks in there else None


def telling(books: Books) -> list[str]:
    """The tables by which the format of a target's tables is told."""
    return [books.formats, books.in_format(1).watermarks]


def written(time: datetime | None) -> str | None:
    """A time as the tables keep it: ISO 8601, UTC, microseconds, so that text order is time order."""
    return None if time is None else time.astimezone(UTC).isoformat(timespec="microseconds")


def read_time(text: str | None) -> datetime | None:
    """A time out of the tables."""
    return None if text is None else datetime.fromisoformat(text)


def watermark_of(load: str, row: Sequence[Any] | None) -> Watermark | None:
    """A watermark from the row that ``Books.find_watermark`` finds."""
    if row is None:
        return None
    identity, position, token, at, step, columns, gone, made_by, tables = row
    merged = tuple(MergedTable(**one) for one in json.loads(tables or "[]"))
    return Watermark(
        load, identity, position, read_time(at), step, token, _names(columns), _names(gone), made_by, merged
    )


def written_tables(tables: Sequence[MergedTable]) -> str:
    """The tables that were merged into, as a watermark keeps them."""
    return json.dumps([asdict(one) for one in tables], ensure_ascii=False)


def _names(text: str) -> tuple[str, ...]:
    return tuple(json.loads(text))


def standing_of(rows: Sequence[Sequence[Any]]) -> dict[str, tuple[Watermark, LedgerEntry]]:
    """Each load's watermark and the step that set it, from the rows that ``Books.find_standing`` finds."""
    first = 1 + len(WATERMARK_COLUMNS)
    found = ((watermark_of(row[0], row[1:first]), entry_of(row[first:])) for row in rows)
    return {watermark.load: (watermark, entry) for watermark, entry in found if watermark is not None}


def watermark_values(watermark: Watermark) -> list[Any]:
    """A watermark's values in the order of ``Books.insert_watermark``."""
    columns, gone = (json.dumps(names, ensure_ascii=False) for names in (watermark.columns, watermark.gone))
    return [
        watermark.identity,
        watermark.position,
        watermark.token,
        written(watermark.at),
        watermark.step,
        columns,
        gone,
        watermark.made_by,
        written_tables(watermark.tables),
        watermark.load,
    ]


def entry_of(row: Sequence[Any]) -> LedgerEntry:
    """A ledger row as a step."""
    entry = LedgerEntry(*row)
    entry.kind = RENAMED_KINDS.get(entry.kind, entry.kind)
    entry.at = read_time(row[COLUMNS.index("stepped_at")])
    return entry


def entry_values(entry: LedgerEntry) -> list[Any]:
    """A step's values in the order of ``Books.insert_entry``."""
    values = [getattr(entry, name) for name in entry.__struct_fields__]
    values[COLUMNS.index("stepped_at")] = written(entry.at)
    return values
