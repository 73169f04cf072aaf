"""Looking without touching: changes, net changes, status, ledger and check. Nothing here writes anywhere."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.committing import set_aside
from plainstep.core.positions import Mark, Place, Span, Window
from plainstep.errors import MarkMoved, PlainStepError, Refused
from plainstep.netting import edits_of, key_of, news, read_net
from plainstep.progress import counted
from plainstep.stores.base import ForeignSource
from plainstep.windows import ahead, ends, refuse_unless_continuous, shown, span_of, why_not, window

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.changes import Changes
    from plainstep.core.net import NetChanges
    from plainstep.load import Load
    from plainstep.stores.records import LedgerEntry

# How many differing keys a check keeps to show.
SHOWN_DIFFERENCES = 20


@dataclass
class LookResult:
    """The raw changes of a window.

    Attributes:
        load: the load's name.
        key: its key columns.
        after, upto: the window, ``(after, upto]``.
        changes: the first of them, oldest first.
        counts: how many there are of each operation, in the whole window.
        total: how many there are.
        note: how well the window could be found, where there is something to say.
    """

    load: str
    key: tuple[str, ...]
    after: int | str
    upto: int | str
    changes: Changes
    counts: dict[str, int]
    total: int
    note: str = ""

    @property
    def more(self) -> int:
        """How many changes of the window are not in ``changes``."""
        return self.total - len(self.changes)


@dataclass
class NetResult:
    """The net changes of a window.

    Attributes:
        load: the load's name.
        after, upto: the window, ``(after, upto]``.
        net: the net changes.
        edits: what a step over this window would do: rows by primitive.
        note: how well the window could be found, where there is something to say.
    """

    load: str
    after: int | str
    upto: int | str
    net: NetChanges
    edits: dict[str, int]
    note: str = ""

    def __len__(self) -> int:
        return len(self.net)

    @property
    def counts(self) -> dict[str, int]:
        """How many net changes there are of each operation."""
        return self.net.counts

    def to_arrow(self) -> object:
        """The net changes as an Arrow table; see ``NetChanges.to_arrow``."""
        return self.net.to_arrow()

    def to_pandas(self) -> object:
        """The net changes as a pandas DataFrame; see ``NetChanges.to_pandas``."""
        return self.net.to_pandas()


@dataclass
class LoadStatus:
    """Where a load stands.

    Attributes:
        load, source, into, shape: the load and its ends.
        mark: its mark, or None before the first step.
        merged: the mark's position as people know it.
        head: the newest position that is safe to read, or None if the source cannot tell.
        head_at: when the change at the head was made.
        waiting: how many changes are not merged yet.
        lag_seconds: the age of the oldest of them; 0 if there is none, None if not known.
        health: ``ok``, ``behind``, ``new`` (no step yet) or ``refuses``.
        reason: why, where it is not ok.
        remedy: the command that mends it.
        last_step: the newest ledger row.
        holds_back: bytes of its log that the source's server keeps until this is merged, where it does.
        warnings: what a person should know of the source.
        untold: what its changes cannot tell.
    """

    load: str
    source: str
    into: str
    shape: str
    mark: Mark | None = None
    merged: int | str | None = None
    head: int | str | None = None
    head_at: datetime | None = None
    waiting: int | None = None
    lag_seconds: float | None = None
    health: str = "ok"
    reason: str = ""
    remedy: str = ""
    last_step: LedgerEntry | None = None
    holds_back: int | None = None
    warnings: list[str] = field(default_factory=list)
    untold: list[str] = field(default_factory=list)


@dataclass
class CheckResult:
    """Target against source, as the source stood at the mark.

    Attributes:
        load: the load's name.
        ok: whether they are equal (rows the load was told to leave standing aside).
        position: the mark at which they were compared.
        source_rows, target_rows: how many rows there are on either side.
        waiting: changes not merged yet, and allowed for.
        missing, extra, different: keys that the target lacks, has too many, or has with other values.
        differences: the first differing keys, with both rows, as net changes from target to source.
        kept: whether extra rows are meant to be there (``deletes = "ignore"``).
    """

    load: str
    ok: bool
    position: int | str
    source_rows: int
    target_rows: int
    waiting: int
    missing: int
    extra: int
    different: int
    differences: NetChanges
    kept: bool = False


def look(load: Load, after: str | None = None, upto: str | None = None, limit: int | None = 100) -> LookResult:
    """The raw changes of a window, oldest first."""
    from plainstep.core.changes import Changes, concat

    asked = window(load, after, upto)
    fresh = _fresh_keys(load, asked) if after is None and upto is None else None
    counts: Counter[str] = Counter()
    kept: list[Changes] = []
    room = limit
    for batch in counted(load.source.read(asked), f"{load.name}: changes"):
        batch = batch if fresh is None else batch.among(fresh)
        counts.update(batch.counts())
        if room is None:
            kept.append(batch)
        elif room > 0 or not kept:
            kept.append(Changes(batch.table.slice(0, max(room, 0))))
            room -= len(batch)
    key = key_of(load, load.source.schema())
    note = _noted(load, asked)
    return LookResult(load.name, key, *ends(load, asked), concat(kept), dict(counts), counts.total(), note)


def _fresh_keys(load: Load, asked: Window) -> pa.Table | None:
    """Where a window begins before the mark: the keys that are not at the target as they are in it."""
    if not load.source.rereads:
        return None
    from plainstep.core.words import Op

    found = news(load, read_net(load, asked))
    return found.keys_of(found.rows(*Op))


def _noted(load: Load, asked: Window) -> str:
    """What there is to say of a window that was read."""
    aside = set_aside(load)
    found = getattr(load.source, "doubt", None)
    doubt = (
        f"a step would be refused. {found.what} {found.likely.removesuffix('.')}"
        if found and load.config.strict is None
        else ""
    )
    would = f"rows that contradict the layout, and would be set aside: {len(aside):,}"
    first = f" (the first, at {aside[0].place}: {aside[0].reason})" if aside else ""
    return "; ".join(part for part in (asked.note, would + first if aside else "", doubt) if part)


def net(load: Load, after: str | None = None, upto: str | None = None) -> NetResult:
    """The net changes of a window, and what a step would do with them."""
    asked = window(load, after, upto)
    found = read_net(load, asked)
    if after is None and upto is None:
        found = news(load, found)
    edits = edits_of(load, found)
    counted = {
        "put": edits.put.num_rows if edits.put is not None else 0,
        "patch": sum(part.num_rows for part in edits.patch),
        "drop": edits.drop.num_rows if edits.drop is not None else 0,
        "append": 0,
        "add": 0,
    }
    return NetResult(load.name, *ends(load, asked), found, counted, _noted(load, asked))


def status(load: Load) -> LoadStatus:
    """Where a load stands, and whether its next step can be made."""
    found = LoadStatus(load.name, load.config.source, load.config.into, load.config.shape)
    try:
        found.mark = load.target.mark(load.name)
        found.merged = shown(load, found.mark.place) if found.mark else None
        steps = load.target.ledger(load.name, 1)
        found.last_step = steps[-1] if steps else None
        span = span_of(load, found.mark)
        found.head, found.head_at = shown(load, span.end), span.head_at
        found.holds_back = span.holds_back
        found.warnings = load.source.warnings()
        found.untold = load.source.untold() if isinstance(load.source, ForeignSource) else []
        _judge(load, found, span)
    except MarkMoved:
        return status(load)
    except PlainStepError as error:
        found.health, found.reason, found.remedy = "refuses", error.what, error.next
    return found


def _judge(load: Load, found: LoadStatus, span: Span) -> None:
    mark = found.mark
    if mark is None:
        found.health, found.reason, found.remedy = (
            "new",
            "no step was made yet",
            f"plainstep step {load.name}",
        )
        found.waiting = load.source.waiting(Window.between(Place(span.oldest), span.end)).count
        return
    refusal = why_not(load, mark, span)
    if refusal:
        found.health, found.reason, found.remedy = "refuses", refusal.what, refusal.next
        return
    waiting = load.source.waiting(ahead(mark, span))
    found.waiting, found.lag_seconds = waiting.count, 0.0
    if waiting.any:
        found.health = "behind"
        found.reason = "changes are waiting" if waiting.count is None else f"changes waiting: {waiting.count:,}"
        found.remedy = f"plainstep step {load.name}"
        found.lag_seconds = (datetime.now(UTC) - waiting.since).total_seconds() if waiting.since else None


def ledger(loads: list[Load], limit: int | None = None) -> list[LedgerEntry]:
    """The newest steps of some loads, oldest first."""
    entries = [entry for load in loads for entry in load.target.ledger(load.name, limit)]
    entries.sort(key=lambda entry: (entry.at or datetime.min.replace(tzinfo=UTC), entry.load, entry.step))
    return entries[-limit:] if limit is not None else entries


def check(load: Load) -> CheckResult:
    """Compare the target with the source as it stood at the mark: changes still waiting are undone first."""
    from plainstep.core.compare import difference

    mark = load.target.mark(load.name)
    if mark is None:
        raise Refused(f"{load.name} has not begun, so there is nothing to check.", "", f"plainstep step {load.name}")
    with load.source.snapshot() as snapshot:
        refuse_unless_continuous(load, mark, snapshot.span)
        waiting = news(load, read_net(load, ahead(mark, snapshot.span)))
        undo = waiting.reversible and load.source.reversible
        schema = load.target.fits(snapshot.schema)
        key = key_of(load, schema)
        info = load.target.table(load.into_table, key)
        if info is None:
            raise Refused(
                f"The table {load.config.into} is gone.",
                f"The mark of {load.name} says that it was loaded up to {mark.position}.",
                f"plainstep reload {load.name}",
            )
        _refuse_missing(load, schema.names, info.schema.names)
        target = counted(load.target.rows(load.into_table, schema), f"{load.name}: target rows")
        source = counted(snapshot.batches, f"{load.name}: source rows")
        # What waits is undone; where old values are not told, the keys that wait are left out instead.
        found, target_rows = difference(key, schema, target, source, waiting if undo else None)
        if not undo:
            found = _settled(found, waiting)
    if load.target.mark(load.name) != mark:  # a step came in between: what was read belongs to two moments
        return check(load)
    count = len(waiting) if load.source.rereads else waiting.read
    return _checked(load, mark, found, target_rows, count)


def _settled(found: NetChanges, waiting: NetChanges) -> NetChanges:
    """The differences of the keys for which nothing waits. After a truncate, something waits for every key."""
    if waiting.truncated:
        return replace(found, state=found.state.slice(0, 0))
    return found.without(waiting)


def _refuse_missing(load: Load, wanted: list[str], found: list[str]) -> None:
    absent = [name for name in wanted if name not in found]
    if absent:
        raise Refused(
            f"{load.config.into} has no column {absent[0]!r} yet, which {load.config.source} has.",
            "The next step adds it.",
            f"plainstep step {load.name}, then plainstep check {load.name}",
        )


def _checked(load: Load, mark: Mark, found: NetChanges, target_rows: int, waiting: int) -> CheckResult:
    counts = found.counts
    missing, extra, different = counts["insert"], counts["delete"], counts["update"]
    kept = load.config.deletes == "ignore"
    return CheckResult(
        load.name,
        ok=not (missing or different or (extra and not kept)),
        position=shown(load, mark.place),
        source_rows=target_rows + missing - extra,
        target_rows=target_rows,
        waiting=waiting,
        missing=missing,
        extra=extra,
        different=different,
        differences=found,
        kept=kept,
    )
