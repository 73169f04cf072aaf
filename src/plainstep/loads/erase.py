"""Erasing one row's values from where loads and capture keep them, once it is gone from its own table."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Literal

from plainstep.copying import replace
from plainstep.core.json_values import ready
from plainstep.core.positions import Window
from plainstep.core.schema_drift import Fit
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import pa
from plainstep.display.results import Results
from plainstep.errors import ConfigError, Refused
from plainstep.loads.asked_key import asked_key, source_names
from plainstep.loads.commit import entry_of
from plainstep.loads.delivery import outbox
from plainstep.loads.shown_key import ShownKey
from plainstep.loads.states import LoadState, state_of
from plainstep.loads.target_rows import beside
from plainstep.stores.api import ErasableChanges
from plainstep.stores.capabilities import KeepsVersions, with_capture
from plainstep.stores.records import Commit, LeftOut, Part
from plainstep.stores.rows_by_key import matching

if TYPE_CHECKING:
    from plainstep.core.positions import Position
    from plainstep.loads.load import Load
    from plainstep.stores.api import Source
    from plainstep.stores.records import Reader

# What is left to whoever asked.
YOURS: Literal["yours"] = "yours"


@dataclass
class ErasedPlace:
    """A place that holds, or held, values of a row.

    Attributes:
        place: the table, or what keeps it.
        what: what of it is kept there.
        count: how many; None where that cannot be told.
        state: ``found``, ``erased``, or ``yours`` for what Plain Step cannot erase.
        hint: what to do about it, where it is yours.
    """

    place: str
    what: str
    count: int | None
    state: Literal["found", "erased", "yours"] = "found"
    hint: str = ""

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it."""
        return dict(vars(self))


@dataclass
class EraseResult:
    """Where values of a row are kept.

    Attributes:
        load: the load by which it was named.
        key: its key.
        places: where they are, or were.
        done: whether they were erased, or only looked for.
    """

    load: str
    key: dict[str, Any]
    places: Results[ErasedPlace] = field(default_factory=Results)
    done: bool = False

    def _repr_html_(self) -> str:
        return self.places._repr_html_()

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready({"load": self.load, "key": self.key, "done": self.done, "places": self.places.to_dict()})


def erase(load: Load, key: tuple[str, ...], others: Sequence[Load] = (), really: bool = False) -> EraseResult:
    """Find a row's values where loads of its table and the table's capture keep them, and erase them.

    Args:
        load: the load.
        key: the values of its key columns, in their order, as text.
        others: other loads of the same table, whose targets are gone through, too.
        really: whether to erase them, or only to say where they are.

    Raises:
        ConfigError: it is not a key of this load.
        Refused: the row is still in its table, or a load has changes of it to merge. Nothing was erased.
    """
    began = time.perf_counter()
    asked = _by_source_names(load, key)
    source = _Source(load.unfiltered, asked)
    stepped = [one for one in (load, *others) if one.target.watermark(one.name) is not None]
    targets = [_AtTarget(one, asked) for one in stepped if {*source_names(one).values()} == {*asked}]
    result = EraseResult(load.name, source.key)
    if really:
        source.refuse_too_early([one.load.name for one in targets if one.waits()])
    for one in targets:
        result.places.extend(one.places())
    result.places.extend(_by_another_key(one) for one in stepped if one not in [there.load for there in targets])
    result.places.extend(source.places({one.reader for one in (load, *others)}))
    if really:
        for one in targets:
            one.erase(began)
        source.erase()
        result.done = True
        for place in result.places:
            place.state = "erased" if place.state == "found" else place.state
    return result


def _by_source_names(load: Load, key: tuple[str, ...]) -> dict[str, str]:
    """What a person wrote for each column of a load's key, by its name at the source."""
    state = state_of(load)
    if not state.key:
        raise ConfigError(f"{load.config.source} is captured without a key.", "Nothing tells which rows are meant.")
    asked_key(state, key)  # as many as there are columns
    names = source_names(load)
    return {names[name]: value for name, value in zip(state.key, key, strict=True)}


def _by_another_key(load: Load) -> ErasedPlace:
    hint = f"its key is another: plainstep erase {load.name} KEY"
    return ErasedPlace(load.config.into, f"{load.name} ({load.config.shape})", None, YOURS, hint)


class _Source:
    """A row's values in its own table, and in the changes that are held of it.

    Which changes those are is found at once: only what was made by then is erased, and none that comes while it is looked
    whether all of them are merged.
    """

    def __init__(self, load: Load, asked: dict[str, str]) -> None:
        self.load, self.source = load, load.source
        state = state_of(load)
        self.identity = state.span.identity
        self.keys = asked_key(state, tuple(asked[name] for name in state.key))
        self.key: dict[str, Any] = self.keys.to_pylist()[0]
        self.numbers = self.source.changes_of(self.keys) if isinstance(self.source, ErasableChanges) else []
        self.state = state_of(
            load
        )  # as it is now: up to here, everything that was found is told by whoever waits for it

    def refuse_too_early(self, waiting: list[str]) -> None:
        """Refuse while the row is there, or changes of it are yet to be merged: they would bring it back."""
        name, load = self.load.name, self.load
        told = ", ".join(f"{column} {value}" for column, value in self.key.items())
        if self._there():
            raise Refused(
                f"The row with {told} is still in {load.config.source}.",
                "What is erased elsewhere would come back with its next change, or at a reload.",
                "Delete it there, and run plainstep step; then this command again.",
            )
        waiting = waiting or self._waiting()
        if waiting:
            raise Refused(
                f"Changes of the row with {told} are not merged yet by {', '.join(waiting)}.",
                "They would bring back what is erased.",
                f"plainstep step merges them (plainstep trim {load.from_store.name} lists the readers); then plainstep erase {name} ... again.",
            )

    def _there(self) -> bool:
        table = self.load.table
        return table is not None and matching(table, self.state.schema, self.keys).num_rows > 0

    def _waiting(self) -> list[str]:
        """The readers of the table's capture, of whatever project, that have changes of the row to merge."""
        behind = {one.name: one.watermark for one in self._readers()}
        return [name for name, watermark in behind.items() if _waits(self.state, watermark, self.keys)]

    def _readers(self) -> list[Reader]:
        """Who reads the table's capture, in whatever project."""
        if not isinstance(self.source, ErasableChanges):
            return []
        readers = with_capture(self.load.from_store).readers(self.load.from_table)
        return [one for one in readers if one.how == self.load.config.changes]

    def places(self, known: set[str]) -> list[ErasedPlace]:
        """The table itself, what keeps its changes, and who else has read them; ``known`` are the readers of this project."""
        name, source = self.load.config.source, self.source
        others = [one.name for one in self._readers() if one.name not in known]
        read = [ErasedPlace(one, "a reader of another project", None, YOURS, "erase it there, too") for one in others]
        return [*self._kept(name, source), *read]

    def _kept(self, name: str, source: Source) -> list[ErasedPlace]:
        there = [ErasedPlace(name, "the row itself", 1, YOURS, "delete it there first")] if self._there() else []
        if isinstance(source, ErasableChanges):
            return [*there, ErasedPlace(name, "captured changes", len(self.numbers))]
        if source.is_managed:
            return [
                *there,
                ErasedPlace(name, "the server's log", None, YOURS, "it is reused once every reader is past it"),
            ]
        if self.load.config.changes in ("diff", "column"):
            return there
        return [*there, ErasedPlace(name, "changes that something else keeps", None, YOURS, "erase them there")]

    def erase(self) -> None:
        """Take the values out of the changes that are held."""
        if isinstance(self.source, ErasableChanges) and not self.source.erase(self.identity, self.numbers):
            raise Refused(
                f"{self.load.config.source} was captured anew while its changes were looked through.",
                "Those of the capture before are gone; what the new one holds was not looked at.",
                f"plainstep erase {self.load.name} ... again.",
            )


class _AtTarget:
    """A row's values at one load's target: in its table, among its events, and in quarantine."""

    def __init__(self, load: Load, asked: dict[str, str]) -> None:
        self.load, self.state = load, state_of(load)
        names = source_names(load)
        self.keys = asked_key(self.state, tuple(asked[names[name]] for name in self.state.key))
        shown = ShownKey(self.keys.rename_columns([names[name] for name in self.state.key]), load.config.layout)
        told = {row.place: shown.tell(json.loads(row.row)) for row in load.target.quarantined(load.name)}
        self.quarantined = [place for place, mine in told.items() if mine]
        self.unclear = sum(mine is None for mine in told.values())
        self.events = self._events() if load.config.shape == "events" else []

    def waits(self) -> bool:
        """Whether changes of the row are yet to be merged. (A load that compares only finds that it is gone.)"""
        before = self.state.watermark
        if self.load.config.changes in ("diff", "column") or before is None:
            return False
        return _waits(self.state, before.reached, self.keys)

    def _events(self) -> list[str]:
        """The events that tell of the row: by their key, or by what it was or is."""
        wanted = {name: str(value) for name, value in ready(self.keys.to_pylist()[0]).items()}
        return [row["id"] for row in outbox.every(self.load) if _tells_of(json.loads(row["data"]), wanted)]

    def _ways(self) -> list[pa.Table]:
        """By which values rows of the main table hold the row's: by each of the columns that hold its key."""
        names = [self.state.shape.names_of(name) for name in self.keys.column_names]
        return [self.keys.rename_columns(list(some)) for some in zip(*names, strict=True)]

    def _held(self) -> int:
        """How many rows of the main table hold the row's values; one that holds them in two ways counts once."""
        ways = self._ways()
        names = [name for keys in ways for name in keys.column_names]
        count = 0
        for index, keys in enumerate(ways):
            rows = self.state.held.rows("", names, keys).to_pylist()
            before = [one.to_pylist()[0].items() for one in ways[:index]]
            count += sum(not any(values <= row.items() for values in before) for row in rows)
        return count

    def places(self) -> list[ErasedPlace]:
        """The table, the events and the quarantine of this load."""
        load, into, shape = self.load, self.load.config.into, self.load.config.shape
        found = []
        if self._ways():
            one = ErasedPlace(into, f"{load.name} ({shape})", self._held())
            if load.into_store.appends_only:
                one.state, one.hint = YOURS, "rows in files are not changed"
            found.append(one)
        if isinstance(load.into_store, KeepsVersions):
            hint = load.into_store.forgetting(load.into_table)
            found.append(ErasedPlace(into, f"{load.name}: earlier versions", None, YOURS, hint))
        if shape == "rollup":
            found.append(
                ErasedPlace(
                    into,
                    f"{load.name} (rollup)",
                    None,
                    YOURS,
                    "its groups count only rows that are there",
                )
            )
        if shape == "events":
            found.append(ErasedPlace(into, f"{load.name}: events", len(self.events)))
            if load.config.deliver:
                found.append(ErasedPlace(load.name, "events that were sent", None, YOURS, "ask whoever received them"))
        if self.quarantined:
            found.append(ErasedPlace(into, f"{load.name}: quarantined rows", len(self.quarantined)))
        if self.unclear:
            what, hint = "quarantined rows that show no key", f"plainstep quarantine {load.name} shows them"
            found.append(ErasedPlace(into, f"{load.name}: {what}", self.unclear, YOURS, hint))
        return found

    def erase(self, began: float) -> None:
        """Erase all of it, in one commit with a row of the ledger, which does not tell the key."""
        load, before = self.load, self.state.watermark
        assert before is not None
        entry = entry_of(load, "erase", self.state.span, before)
        entry.upto, entry.upto_shown, entry.at = before.position, entry.after_shown, datetime.now(UTC)
        events = [pa.table({"id": pa.array(self.events, pa.string())})] if self.events else []
        ways = [] if load.into_store.appends_only else [*self._ways(), *events]
        parts = [self._part(table.suffix, ways if not table.suffix else []) for table in self.state.shape.tables()]
        left_out = LeftOut(released=self.quarantined)
        if ways or self.quarantined:
            load.target.commit(
                Commit(
                    parts if ways else [],
                    before,
                    replace(before, step=entry.step),
                    entry,
                    None,
                    lambda: left_out,
                    began,
                )
            )

    def _part(self, suffix: str, purge: list[pa.Table]) -> Part:
        table = next(one for one in self.state.shape.tables() if one.suffix == suffix)
        name, schema = beside(self.load.into_table, suffix), self.load.target.fits(table.schema)
        return Part(name, schema, table.key, [Edits(purge=purge, strict=False)], lambda info: Fit(), counted=not suffix)


def _tells_of(data: dict[str, Any], key: dict[str, str]) -> bool:
    rows = (data["key"], data["was"], data["now"])
    return any(row and all(str(row.get(name)) == value for name, value in key.items()) for row in rows)


def _waits(state: LoadState, watermark: Position, keys: pa.Table) -> bool:
    """Whether there are changes of a row after a position."""
    if watermark.number > state.span.head:
        return False
    window = Window.between(watermark, state.span.end)
    return any(len(changes.among(keys)) for changes in state.load.source.read(window))
