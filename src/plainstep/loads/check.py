"""Target against source, as the source stood at the watermark."""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

from plainstep.core.diff import net_of
from plainstep.core.json_values import ready
from plainstep.core.positions import Span, Watermark
from plainstep.core.schema_drift import refuse_lost
from plainstep.deferred import pa, pd
from plainstep.display import html, records
from plainstep.display.records import SHOWN_DIFFERENCES
from plainstep.errors import ConfigError, PlainStepError, Refused, WatermarkMoved, need_pandas
from plainstep.loads.commit import commit_to, entry_of, quarantining
from plainstep.loads.difference import compared_at_watermark, repairing_edits
from plainstep.loads.planning import merged_columns, parts_of
from plainstep.loads.readiness import incomplete_source, is_incomplete
from plainstep.loads.reading import drop_applied, read_net
from plainstep.loads.states import LoadState
from plainstep.loads.windows import ahead, label, refuse_unless_continuous
from plainstep.progress import counted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from plainstep.core.changes.net import NetChanges
    from plainstep.core.diff import Comparison, Scope
    from plainstep.core.shapes.edits import Edits
    from plainstep.loads.load import Load
    from plainstep.stores.records import LedgerEntry, Snapshot


@dataclass
class CheckResult:
    """Target against source, as the source stood at the watermark.

    Attributes:
        load: the load's name.
        ok: whether they are equal (rows the load was told to leave standing aside).
        position: the watermark at which they were compared.
        at: when the change at that position was made, if known (UTC).
        source_rows, target_rows: how many rows there are on either side.
        waiting: changes not merged yet, and allowed for.
        missing, extra, different: keys that the target lacks, has too many, or has with other values.
        beside: how many rows differ in the tables that a rollup keeps beside its groups.
        differences: the first differing keys, with both rows, as net changes from target to source.
        columns: how many columns were compared, the key's among them.
        whole: whether every row and column was compared.
        sample: the share of the keys that was compared, above 0 and up to 1.
        incomplete: whether they differ, and the source does not tell any more of every row that was merged: files or messages are
            gone, and rows that only those told of count as extra.
        kept: whether extra rows are meant to be there (``deletes = "ignore"``).
        repaired: the ledger row of the step that merged the differences, if one was asked for.
        error: why they could not be compared; then nothing else is known.
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
    differences: NetChanges | None
    at: datetime | None = None
    columns: int = 0
    whole: bool = True
    sample: float = 1.0
    kept: bool = False
    beside: int = 0
    incomplete: bool = False
    repaired: LedgerEntry | None = None
    error: PlainStepError | None = None

    @property
    def differing(self) -> int:
        """How many rows differ, of all the shape's tables."""
        return self.missing + self.extra + self.different + self.beside

    def _repr_html_(self) -> str:
        if self.differences is None:
            return html.table(f"{self.load}: {self.error}", [], [])
        said = "equal" if self.ok else "DIFFERENT"
        sides = f"{self.source_rows:,} rows at the source and {self.target_rows:,} at the target, as of {self.position}"
        return html.differences(f"{self.load}: {said}, {sides}", self.differences)

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        names = (
            "load",
            "ok",
            "position",
            "source_rows",
            "target_rows",
            "waiting",
            "missing",
            "extra",
            "different",
            "beside",
            "columns",
            "whole",
            "sample",
            "incomplete",
        )

        if self.differences is None:
            return ready(
                {
                    "load": self.load,
                    "ok": False,
                    "error": {"what": self.error.what, "why": self.error.why, "next": self.error.next}
                    if self.error
                    else None,
                }
            )
        form = {name: getattr(self, name) for name in names} | {"differences": records.differences(self.differences)}
        return ready(form | ({"repaired": self.repaired.to_dict()} if self.repaired else {}))

    def to_arrow(self) -> pa.Table:
        """The first rows that differ, as net changes from target to source; none where nothing was compared."""
        return pa.table({}) if self.differences is None else self.differences.to_arrow()

    def to_pandas(self) -> pd.DataFrame:
        """The same as a pandas DataFrame."""
        need_pandas()
        return self.to_arrow().to_pandas()


def incomparable(load: Load) -> str:
    """Why a load's target cannot be compared with its source, or empty."""
    config = load.config
    if config.shape == "events":
        return "it makes events from changes, and a table as it stands holds no changes"
    if config.shape != "journal":
        return ""
    if config.first == "head":
        return "a journal that begins at the head lacks what was there before"
    if load.into_store.appends_only and config.format != "parquet":
        return f"values are texts in files of {config.format}, and cannot be compared as what they are"
    return ""


def left_out(load: Load) -> str:
    """Why a load is left out where all are compared, or empty."""
    begun = incomparable(load) or load.target.watermark(load.name) is not None
    return incomparable(load) if begun else f"it has not begun (plainstep step {load.name})"


def result_of(load: Load, scope: Scope | None = None, repair: bool = False, incomplete: bool = False) -> CheckResult:
    """The same as ``check``; an error is told in the result."""
    try:
        return check(load, scope, repair, incomplete)
    except PlainStepError as error:
        error.load = load.name
        return CheckResult(load.name, False, "", 0, 0, 0, 0, 0, 0, None, error=error)


# A broker that is slow to show its last messages is asked again so often.
TRIES = 3


@dataclass(frozen=True)
class _Asked:
    """What a check is asked to do; see ``check``."""

    scope: Scope | None
    repair: bool
    incomplete: bool


class _Behind(Exception):
    """The source shows less than was merged."""


class _Moved(Exception):
    """A step came in between: what was read belongs to two moments."""


def check(load: Load, scope: Scope | None = None, repair: bool = False, incomplete: bool = False) -> CheckResult:
    """Compare the target with the source as it stood at the watermark: changes still waiting are undone first.

    It is begun again where a step comes in between, and a few times where the source shows less than was merged.

    Args:
        load: the load.
        scope: what is compared; None for every row and column.
        repair: whether to merge exactly what differs, as a step of its own at the same watermark.
        incomplete: whether to do so where some of what was merged is gone from the source.

    Raises:
        Refused: there is nothing to compare, or the source is no longer the one that was merged, or shows less.
        ConfigError: the scope makes no sense here.
    """
    asked, tries = _Asked(scope, repair, incomplete), TRIES
    while tries:
        began_at = load.target.watermark(load.name)
        try:
            return _check(load, asked)
        except _Moved:
            pass
        except _Behind:
            tries -= 1
        except Refused:  # where a step came in between, what waited may not be told any more
            if load.target.watermark(load.name) == began_at:
                raise
    why, remedy = "It is slow to show what came last.", f"plainstep check {load.name}"
    watermark = load.target.watermark(load.name)
    if watermark is not None and is_incomplete(load, watermark):
        why = "Files or messages that were merged are gone."
        remedy = f"Bring them back. plainstep reload {load.name} --yes takes what is left for all there is."
    raise Refused(
        f"{load.config.source} shows less than {load.name} has merged, and cannot be compared with it.", why, remedy
    )


def _check(load: Load, asked: _Asked) -> CheckResult:
    """The same, tried once.

    Raises:
        _Moved: a step came in between.
        _Behind: the source shows less than was merged.
    """
    load.renew()
    watermark = _comparable_from(load, asked)
    # Where the target keeps its versions, steps that come in between are not in what is compared.
    pinned = None if asked.repair else load.at_step(watermark.step)
    load, began = pinned or load, time.perf_counter()
    with load.source.snapshot() as snapshot:
        refuse_unless_continuous(load, watermark, snapshot.span)
        if snapshot.span.head < watermark.position and not load.source.overlaps:
            raise _Behind
        state = LoadState(load, watermark, snapshot.span)
        waiting = drop_applied(state, read_net(state, ahead(watermark, snapshot.span)).net)
        info = state.held.found("")
        if info is None:
            raise Refused(
                f"The table {load.config.into} is gone.",
                f"The watermark of {load.name} says that it was loaded up to {watermark.position}.",
                f"plainstep reload {load.name}",
            )
        state = state.in_held_types()
        _refuse_missing(
            state,
            [name for column in state.shape.schema.names for name in state.shape.names_of(column)],
            info.schema.names,
        )
        source = counted(snapshot.batches, f"{load.name}: source rows", snapshot.total)
        with compared_at_watermark(state, source, waiting, asked.scope) as found:
            result = _checked(load, watermark, found, asked.scope)
            result.incomplete = not result.ok and is_incomplete(load, watermark, snapshot.left_out(), result.extra)
            if result.incomplete and asked.repair and not asked.incomplete:
                raise incomplete_source(load, result.differing, f"plainstep check {load.name} --repair --yes")
            edits = repairing_edits(state, found, watermark) if asked.repair and not result.ok else None
    if pinned is None and load.target.watermark(load.name) != watermark:
        raise _Moved
    result.waiting = len(waiting) if load.source.overlaps else waiting.read
    if edits is not None:
        try:
            result.repaired = _repair(state, edits, result, snapshot, began)
        except WatermarkMoved as error:
            raise _Moved from error
    return result


def _comparable_from(load: Load, asked: _Asked) -> Watermark:
    """The watermark at which a load can be compared with its source.

    Raises:
        Refused: there is nothing to compare.
        ConfigError: not all is compared that is to be repaired.
    """
    reason = incomparable(load)
    if reason:
        raise Refused(f"{load.name} cannot be compared with its source: {reason}.")
    watermark = load.target.watermark(load.name)
    if watermark is None:
        raise Refused(f"{load.name} has not begun, so there is nothing to check.", "", f"plainstep step {load.name}")
    if asked.repair and asked.scope and (asked.scope.columns or asked.scope.where):
        raise ConfigError(
            "Only whole rows are repaired, and rows that a condition leaves out may still be at the source.",
            "",
            f"plainstep check {load.name} --repair, without --columns and --where",
        )
    return watermark


def _repair(
    state: LoadState, rounds: list[Sequence[Edits]], found: CheckResult, snapshot: Snapshot, began: float
) -> LedgerEntry:
    """Merge differences; the watermark stays where it is."""
    load, watermark, span = state.load, state.watermark, snapshot.span
    assert watermark is not None
    there = Span(watermark.identity, span.oldest, watermark.position, watermark.at, watermark.token, span.start)
    entry = entry_of(load, "repair", there, watermark)
    entry.inserts, entry.updates, entry.deletes = found.missing, found.different, found.extra
    parts = parts_of(state, rounds, started=True, anew=found.whole)
    return commit_to(state, parts, there, entry, began, quarantining(load, entry, snapshot.left_out))


def _refuse_missing(state: LoadState, wanted: list[str], found: list[str]) -> None:
    load, absent = state.load, [name for name in wanted if name not in found]
    refuse_lost(load.name, load.config.into, absent, merged_columns(state))
    if absent:
        raise Refused(
            f"{load.config.into} has no column {absent[0]!r} yet, which {load.config.source} has.",
            "The next step adds it.",
            f"plainstep step {load.name}, then plainstep check {load.name}",
        )


def _checked(load: Load, watermark: Watermark, found: Comparison, scope: Scope | None) -> CheckResult:
    merged = load.config.merged_operations
    meant = {"insert": found.missing, "update": found.different, "delete": found.extra}
    beside = sum(map(len, found.beside))
    return CheckResult(
        load.name,
        ok=not beside and not any(count and op in merged for op, count in meant.items()),
        position=label(load, watermark.reached),
        at=watermark.at,
        source_rows=found.source_rows,
        target_rows=found.target_rows,
        waiting=0,
        missing=found.missing,
        extra=found.extra,
        different=found.different,
        columns=len(found.schema),
        whole=scope is None or scope.all,
        sample=scope.sample if scope else 1.0,
        differences=net_of(found, SHOWN_DIFFERENCES),
        kept="delete" not in merged,
        beside=beside,
    )
