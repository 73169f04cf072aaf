"""The table of events that a load keeps: which wait, and the delivery status of each. It is a table like any other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from plainstep.core.schema_drift import Fit
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.events import outbox_schema
from plainstep.deferred import pa
from plainstep.stores.capabilities import with_tables
from plainstep.stores.records import Commit, LedgerEntry, Part, QuarantinedRow

if TYPE_CHECKING:
    from plainstep.loads.load import Load

# Events that are read, and held in memory, at a time.
AT_ONCE = 10_000
# Positions say nothing of the order: they begin anew where a capture was rebuilt.
ORDER = ("step_number", "change_number", "id")


def waiting(load: Load) -> Iterator[list[dict[str, Any]]]:
    """The events that are to be sent, in their order, some at a time; each once, whatever is noted of it meanwhile."""
    after, dialect = "", with_tables(load.into_store).table(load.into_table, {}).dialect
    while True:
        rows = _rows(load, f"state = 'waiting'{after} ORDER BY {', '.join(ORDER)} {dialect.first(AT_ONCE)}")
        if rows:
            yield rows
        if len(rows) < AT_ONCE:
            return
        after = " AND " + dialect.later({name: rows[-1][name] for name in ORDER})


def quarantined(load: Load) -> list[QuarantinedRow]:
    """The events that were quarantined, oldest first."""
    rows = _rows(load, f"state = 'quarantined' ORDER BY {', '.join(ORDER)}")
    return [QuarantinedRow(row["id"], row["problem"], row["data"], row["step_number"]) for row in rows]


def every(load: Load) -> Iterator[dict[str, Any]]:
    """Every event that is kept, sent ones among them: its id and its data."""
    return _read(load, "id IS NOT NULL", ["id", "data"])


def wake(load: Load) -> int:
    """Let the events that were quarantined wait again, and end every rest; how many were quarantined."""
    rows = _rows(load, "state IN ('quarantined', 'waiting')", ["id", "state"])
    now = datetime.now(UTC)
    amend(load, [{"id": row["id"], "state": "waiting", "tries": 0, "try_again_at": now} for row in rows])
    return sum(row["state"] == "quarantined" for row in rows)


def counts(load: Load) -> tuple[int, int]:
    """How many events wait, and how many are quarantined."""
    if load.target.table(load.into_table, ()) is None:
        return 0, 0
    table = with_tables(load.into_store).table(load.into_table, {})
    with table.reading() as reading:
        found = reading.first(
            f"SELECT coalesce(sum(CASE state WHEN 'waiting' THEN 1 ELSE 0 END), 0), "
            f"coalesce(sum(CASE state WHEN 'quarantined' THEN 1 ELSE 0 END), 0) FROM {table.sql}"
        )
    return (int(found[0]), int(found[1])) if found else (0, 0)


def note(load: Load, rows: Sequence[dict[str, Any]]) -> None:
    """Record the delivery status of some events."""
    names = ("id", "state", "tries", "try_again_at", "problem", "sent_at")
    amend(load, [{name: row[name] for name in names} for row in rows])


def amend(load: Load, rows: Sequence[dict[str, Any]]) -> None:
    """Set columns of some events, named by their ids; watermark and ledger stay as they are."""

    watermark = load.target.watermark(load.name)
    if watermark is None or not rows:
        return
    changed = pa.Table.from_pylist(rows, pa.schema([outbox_schema().field(name) for name in rows[0]]))
    edits = Edits(patch=[changed], whole=False)
    part = Part(load.into_table, load.target.fits(outbox_schema()), ("id",), [edits], lambda info: Fit())
    entry = LedgerEntry(load.name, watermark.step, "amend", watermark.identity, watermark.position, watermark.position)
    load.target.commit(Commit([part], watermark, watermark, entry, amends=True))


def _rows(load: Load, condition: str, names: Sequence[str] = ()) -> list[dict[str, Any]]:
    """Events, or some of their columns."""
    return list(_read(load, condition, names))


def _read(load: Load, condition: str, names: Sequence[str] = ()) -> Iterator[dict[str, Any]]:
    """The same, without holding more than a batch."""
    if load.target.table(load.into_table, ()) is None:
        return
    schema: pa.Schema = pa.schema([outbox_schema().field(name) for name in names]) if names else outbox_schema()
    with with_tables(load.into_store).table(load.into_table, {}).reading() as reading:
        for batch in reading.select(schema.names, {}, f"WHERE {condition}"):
            yield from batch.cast(schema).to_pylist()
