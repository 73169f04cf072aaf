"""One plain step: read the changes in a window, collapse them, merge them, move the mark, in one commit."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from itertools import chain, islice
from typing import TYPE_CHECKING

from plainstep.core.edits import Edits
from plainstep.core.positions import Mark, Place, Span, Window
from plainstep.errors import ConfigError, MarkMoved, PlainStepError, Refused
from plainstep.progress import counted
from plainstep.retries import retried
from plainstep.stores.base import Commit, LeanSource, LedgerEntry, TableInfo
from plainstep.windows import ahead, refuse_unless_continuous, resolve, shown, span_of

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.changes import Changes
    from plainstep.core.net import NetChanges
    from plainstep.load import Load

# Two steps that race agree after one of them has won; more turns than this mean something else is wrong.
TRIES = 5
# So many contradictions of a feed that something else wrote may be chance; beyond, a tenth of its changes.
FEW = 5


@dataclass
class StepOutcome:
    """What one step did.

    Attributes:
        load: the load's name.
        outcome: ``stepped``, ``nothing`` (there was nothing to do), ``failed`` or ``refused``.
        entry: the ledger row, if there is a new one.
        after, upto: the mark before and after.
        seconds: how long it took.
        error: why it failed or refused.
        warnings: what a person should know all the same.
    """

    load: str
    outcome: str
    entry: LedgerEntry | None = None
    after: int | str | None = None
    upto: int | str | None = None
    seconds: float = 0.0
    error: PlainStepError | None = None
    warnings: list[str] = field(default_factory=list)

    @property
    def changes(self) -> int:
        """How many changes were read."""
        return self.entry.changes if self.entry else 0

    @property
    def net(self) -> dict[str, int]:
        """How many net changes there were, by operation."""
        entry = self.entry
        if entry is None:
            return {"insert": 0, "update": 0, "delete": 0}
        return {"insert": entry.inserts, "update": entry.updates, "delete": entry.deletes}

    @property
    def edits(self) -> dict[str, int]:
        """How many rows were edited at the target, by primitive."""
        names = ("put", "patch", "drop", "append", "add")
        return {name: getattr(self.entry, name) if self.entry else 0 for name in names}


def step(load: Load) -> StepOutcome:
    """One step of a load. Errors are told in the outcome."""
    began = time.perf_counter()
    try:
        outcome = retried(lambda: _until_settled(load), load.into_store.wait)
    except PlainStepError as error:
        refused = isinstance(error, Refused) or error.exit_status == 4
        outcome = StepOutcome(load.name, "refused" if refused else "failed", error=error)
    outcome.seconds = time.perf_counter() - began
    return outcome


def _until_settled(load: Load) -> StepOutcome:
    """Step, and if another step was quicker, go on from where it left the mark."""
    for _ in range(TRIES - 1):
        try:
            return _once(load)
        except MarkMoved:
            continue
    return _once(load)


def _once(load: Load) -> StepOutcome:
    began = time.perf_counter()
    mark = load.target.mark(load.name)
    span = span_of(load, mark)
    if mark is None:
        entry = _first(load, span, began)
    else:
        refuse_unless_continuous(load, mark, span)
        window = ahead(mark, span)
        waiting = load.source.waiting(window)
        if waiting.any is False:
            load.source.settled(mark.place, span.end)
            return _nothing(load, mark)
        net = news(load, _read_lean(load, window, waiting.count))
        if load.source.rereads and span.token == mark.token and not len(net) and not net.truncated:
            return _nothing(load, mark)
        entry = _merge(load, net, span, mark, began)
    return _stepped(load, entry)


def _nothing(load: Load, mark: Mark) -> StepOutcome:
    here = shown(load, mark.place)
    return StepOutcome(load.name, "nothing", None, here, here, warnings=load.source.warnings())


def _stepped(load: Load, entry: LedgerEntry) -> StepOutcome:
    after, upto = entry.after_shown or entry.after, entry.upto_shown or entry.upto
    return StepOutcome(load.name, "stepped", entry, after, upto, entry.seconds, None, load.source.warnings())


def _first(load: Load, span: Span, began: float) -> LedgerEntry:
    """The first step: everything as it stands, every change since the beginning, or nothing yet."""
    first = load.config.first
    load.source.reserve()
    if first == "snapshot":
        return _snapshot(load, began)
    if first == "beginning":
        if span.oldest > span.start:
            raise Refused(
                f"The first changes of {load.config.source} were trimmed, and {load.name} has not begun.",
                "first = 'beginning' would leave out what they said.",
                f"Set first = 'snapshot' in the load {load.name}.",
            )
        return _merge(load, _read_lean(load, Window.between(Place(span.start), span.end), None), span, None, began)
    entry = _entry(load, "begin", span, None, note="only changes after this are merged")
    return _commit(load, Edits(), None, span, entry, began)


def _snapshot(load: Load, began: float) -> LedgerEntry:
    from plainstep.core.compare import with_keys

    with load.source.snapshot() as snapshot:
        key = key_of(load, snapshot.schema)
        rows = counted(snapshot.batches, f"{load.name}: rows")
        info = load.target.table(load.into_table, key)
        if info is not None and info.rows:
            if load.target.mark(load.name) is not None:
                raise MarkMoved(f"Another step of {load.name} loaded the table first.")
            raise Refused(
                f"{load.config.into} already holds rows, and {load.name} has never merged into it.",
                "Rows that are not at the source would be left standing.",
                f"Empty the table; or keep its rows with plainstep mark {load.name} --to head, then plainstep check.",
            )
        edits = Edits(append=_begun(with_keys(rows, key, load.config.source)))
        entry = _entry(load, "snapshot", snapshot.span, None)
        if load.from_store.url != load.into_store.url or not load.into_store.exclusive:
            return _commit(load, edits, None, snapshot.span, entry, began)
        edits.append = list(edits.append)
    return _commit(load, edits, None, snapshot.span, entry, began)


def _begun(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """The batches, the first of them read already: what is wrong with it shows before the target is opened."""
    first = list(islice(batches, 1))
    return chain(first, batches)


def _merge(load: Load, net: NetChanges, span: Span, mark: Mark | None, began: float) -> LedgerEntry:
    entry = _entry(load, "changes", span, mark)
    entry.changes, entry.contradictions = net.read, net.contradictions
    counts = net.counts
    entry.inserts, entry.updates = counts["insert"], counts["update"] + counts.get("put", 0)
    entry.deletes = counts["delete"]
    return _commit(load, edits_of(load, net), mark, span, entry, began)


def read_net(load: Load, window: Window, total: int | None = None) -> NetChanges:
    """The net changes of a window, collapsed batch by batch; ``total`` says how many changes there are, if known."""
    return _collapsed(load, load.source.read(window), total)


def _collapsed(load: Load, batches: Iterable[Changes], total: int | None) -> NetChanges:
    from plainstep.core.collapse import Collapser

    collapser = Collapser(key_of(load, load.source.schema()))
    for changes in counted(batches, f"{load.name}: changes", total):
        collapser.add(changes)
    return collapser.result()


def _read_lean(load: Load, window: Window, total: int | None) -> NetChanges:
    """The net changes of a window, without old values where the source is quicker without them."""
    source = load.source
    if not isinstance(source, LeanSource):
        return read_net(load, window, total)
    net = _collapsed(load, source.read_lean(window), total)
    unsure = net.unsure
    if not len(unsure):
        return net
    return net.made_sure(unsure, source.unchanged(*net.ends(unsure)))


def news(load: Load, net: NetChanges) -> NetChanges:
    """Of net changes that may be merged already, what is not: each is compared with the row at the target."""
    from plainstep.core.compare import difference
    from plainstep.core.words import NOW, Op
    from plainstep.feeds.lookup import matching

    if not load.source.rereads or net.partial or net.truncated:
        return net
    schema = load.target.fits(load.source.schema())
    info = load.target.table(load.into_table, net.key)
    if info is None or any(name not in info.schema.names for name in schema.names):
        return net
    keys = net.keys_of(net.every)
    held = matching(load.into_store.table(load.into_table, {}), schema, keys.cast(_of(schema, net.key)))
    rows = net.images(NOW, net.rows(Op.INSERT, Op.UPDATE, Op.PUT)).select(schema.names).cast(schema)
    found, _ = difference(net.key, schema, held.to_batches(), rows.to_batches())
    return replace(found, read=net.read)


def _of(schema: pa.Schema, names: tuple[str, ...]) -> pa.Schema:
    import pyarrow as pa

    return pa.schema([schema.field(name) for name in names])


def edits_of(load: Load, net: NetChanges) -> Edits:
    """What net changes ask of the target in the load's shape."""
    from plainstep.core.shapes import mirror

    edits = mirror(net, load.config.deletes, load.source.own_capture)
    # A load that did not begin with a snapshot does not know which rows are there.
    edits.sure = edits.sure and load.config.first == "snapshot" and not load.source.rereads
    return edits


def key_of(load: Load, schema: pa.Schema) -> tuple[str, ...]:
    """The load's key: as configured, or as captured.

    Raises:
        ConfigError: the key names an unknown column.
        Refused: the source does not make that key unique.
    """
    captured = load.source.key()
    asked = tuple(load.config.key) or captured
    for name in asked:
        if name not in schema.names:
            raise ConfigError(
                f"The key of {load.name} names the column {name!r}, which {load.config.source} does not have.",
                f"Its columns: {', '.join(schema.names)}.",
                f"Mend 'key' in [loads.{load.name}].",
            )
    if set(asked) != set(captured):
        raise Refused(
            f"The key of {load.name} is {', '.join(asked)}, but {load.config.source} is captured by {', '.join(captured)}.",
            "Nothing says that the load's key is unique.",
            f"Mend 'key' in [loads.{load.name}], or capture anew: plainstep capture off, then on --key {','.join(asked)}.",
        )
    return asked


def _entry(load: Load, kind: str, span: Span, mark: Mark | None, note: str = "") -> LedgerEntry:
    entry = LedgerEntry(
        load.name,
        mark.step + 1 if mark else 1,
        kind,
        span.identity,
        mark.position if mark else None,
        span.head,
        note=note,
    )
    if mark:
        entry.after_shown = _unless_number(shown(load, mark.place))
    entry.upto_shown = _unless_number(shown(load, span.end))
    return entry


def _unless_number(place: int | str) -> str:
    return "" if isinstance(place, int) else place


def _commit(
    load: Load,
    edits: Edits | None,
    before: Mark | None,
    span: Span,
    entry: LedgerEntry,
    began: float,
) -> LedgerEntry:
    """Write everything the step found, in one transaction of the target."""
    schema = load.source.schema()
    key = key_of(load, schema)
    wanted = load.target.fits(schema)
    if edits is not None:
        edits.append = _timed(edits.append, entry, began)
    mark = Mark(load.name, span.identity, span.head, span.head_at, entry.step, span.token)
    entry.at, entry.seconds = datetime.now(UTC), time.perf_counter() - began

    def fit(info: TableInfo | None) -> str:
        return _fit(load, wanted, info, started=before is not None)

    load.target.commit(Commit(load.into_table, wanted, key, edits, before, mark, entry, _tolerated(load, entry), fit))
    with suppress(PlainStepError):  # what is merged is merged; the next step tells the source again
        load.source.settled(mark.place, mark.place)
    return entry


def _tolerated(load: Load, entry: LedgerEntry) -> int | None:
    """How many contradictions are merged all the same; None for any number."""
    if load.config.strict is None:
        return None if load.source.own_capture else max(entry.changes // 10, FEW)
    return 0 if load.config.strict else None


def _timed(batches: Iterable[pa.RecordBatch], entry: LedgerEntry, began: float) -> Iterator[pa.RecordBatch]:
    """The batches, keeping the ledger's seconds current while they stream."""
    for batch in batches:
        yield batch
        entry.seconds = time.perf_counter() - began


def _fit(load: Load, wanted: pa.Schema, info: TableInfo | None, started: bool) -> str:
    """Refuse a target table that does not fit; say which columns will be added."""
    from plainstep.core.drift import missing_columns

    if info is None:
        return ""
    absent = missing_columns(load.name, load.config.into, wanted, info.schema, started, load.source.dropped())
    return f"added the column{'s' * (len(absent) > 1)} {', '.join(absent)}" if absent else ""


def reload(load: Load) -> StepOutcome:
    """A fresh snapshot, merged as differences: readers of the target never see it empty.

    Raises:
        PlainStepError: it could not be made; nothing was written.
    """
    from plainstep.core.compare import difference, known, widened

    began = time.perf_counter()
    mark = load.target.mark(load.name)
    if mark is None:
        raise Refused(
            f"{load.name} has not begun, so there is nothing to load again.",
            "",
            f"plainstep step {load.name}",
        )
    load.source.reserve()
    with load.source.snapshot() as snapshot:
        key = key_of(load, snapshot.schema)
        wanted = load.target.fits(snapshot.schema)
        info = load.target.table(load.into_table, key)
        held_columns = wanted if info is None else known(wanted, info.schema)
        held = load.target.rows(load.into_table, held_columns) if info else iter(())
        rows = counted(snapshot.batches, f"{load.name}: rows")
        net, _ = difference(key, wanted, (widened(batch, wanted) for batch in held), rows)
        span = snapshot.span
    entry = _entry(load, "reload", span, mark)
    counts = net.counts
    entry.inserts, entry.updates, entry.deletes = counts["insert"], counts["update"], counts["delete"]
    edits = edits_of(load, net)
    edits.sure = False
    return _stepped(load, _commit(load, edits, mark, span, entry, began))


def move_mark(load: Load, to: str, reason: str = "") -> LedgerEntry:
    """Move a load's mark without merging anything.

    Raises:
        ConfigError: the position is beyond the source's head, or none.
    """
    began = time.perf_counter()
    span = load.source.span()
    place = resolve(load, span, to)
    mark = load.target.mark(load.name)
    there = Span(span.identity, span.oldest, place.position, load.source.time_of(place), place.token)
    entry = _entry(load, "mark", there, mark, note=reason or "moved by hand")
    return _commit(load, None, mark, there, entry, began)
