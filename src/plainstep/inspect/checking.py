"""Target against source, as the source stood at the mark."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from plainstep.core.positions import Mark
from plainstep.errors import Refused
from plainstep.netting import key_of, news, read_net
from plainstep.progress import counted
from plainstep.windows import ahead, refuse_unless_continuous, shown

if TYPE_CHECKING:
    from plainstep.core.net import NetChanges
    from plainstep.load import Load

# How many differing keys a check keeps to show.
SHOWN_DIFFERENCES = 20


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
