"""The net changes of a window, and what a step would do with them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.changes.parts import EVERY, NetParts, Totals
from plainstep.core.diff import difference
from plainstep.core.json_values import ready
from plainstep.core.positions import Position
from plainstep.core.shapes.apply import applied
from plainstep.core.shapes.base import StepContext, WindowParts
from plainstep.deferred import pa, pd
from plainstep.display import html, records
from plainstep.display.text import counts, many
from plainstep.errors import Refused
from plainstep.loads.parted import ordered, shelved
from plainstep.loads.planning import fit_of
from plainstep.loads.reading import drop_applied, read_net, read_window, refuse_doubtful
from plainstep.loads.rounds import kept
from plainstep.loads.states import state_of
from plainstep.loads.windows import ends
from plainstep.properties import cached_property
from plainstep.stores.api import LeanSource
from plainstep.views.changes import noted, with_bad_values

if TYPE_CHECKING:
    from collections.abc import Sequence

    from plainstep.core.changes.net import NetChanges
    from plainstep.core.points import Point
    from plainstep.core.positions import Window
    from plainstep.core.shapes.edits import Edits
    from plainstep.loads.load import Load
    from plainstep.loads.reading import NetRead
    from plainstep.loads.states import LoadState


@dataclass
class NetResult:
    """The net changes of a window.

    Attributes:
        load: the load's name.
        after, upto: the window, ``(after, upto]``.
        parts: the net changes, in parts by key where they may not fit in memory.
        edits: what a step over this window would do: rows by primitive.
        changed: of a rollup the groups, of a history the versions, that a step would change, open or close: as net changes of the
            target's rows. None for other shapes.
        refusal: why a step over this window would be refused, as far as that shows before it; else empty.
        note: how well the window could be found, where there is something to say.
    """

    load: str
    after: int | str
    upto: int | str
    parts: NetParts
    edits: dict[str, int]
    changed: NetParts | None = None
    refusal: str = ""
    note: str = ""

    def __repr__(self) -> str:
        return f"<NetResult of {self._caption}: {counts(self.counts)}>"

    def _repr_html_(self) -> str:
        return html.nets(self._caption, self.parts)

    @property
    def _caption(self) -> str:
        return (
            f"{self.load}: {many(self.parts.read, 'change')} after {self.after} up to {self.upto} come to {len(self):,}"
        )

    def __len__(self) -> int:
        return len(self.parts)

    @cached_property
    def net(self) -> NetChanges:
        """The net changes, in memory."""
        return self.parts.joined()

    @cached_property
    def rows(self) -> NetChanges | None:
        """The rows that a step would change, in memory."""
        return None if self.changed is None else self.changed.joined()

    @property
    def counts(self) -> dict[str, int]:
        """How many net changes there are of each operation."""
        return self.parts.counts

    def to_arrow(self) -> pa.Table:
        """The net changes as an Arrow table; see ``NetChanges.to_arrow``."""
        return self.net.to_arrow()

    def to_pandas(self) -> pd.DataFrame:
        """The net changes as a pandas DataFrame; see ``NetChanges.to_pandas``."""
        return self.net.to_pandas()

    def to_dict(self, limit: int | None = None, skip: int = 0) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        rows = records.nets(self.parts, limit, skip)
        form = {
            "load": self.load,
            "after": self.after,
            "upto": self.upto,
            "read": self.parts.read,
            "counts": self.counts,
            "edits": self.edits,
            "contradictions": self.parts.contradictions,
            "net": [{name: row[name] for name in ("op", "key", "was", "now", "changed", "count")} for row in rows],
            "more": max(len(self) - skip - len(rows), 0),
        }
        if self.changed is not None:
            told = ("op", "key", "was", "now", "changed")
            form["rows"] = [{name: row[name] for name in told} for row in records.nets(self.changed, limit)]
        if self.refusal:
            form["refusal"] = self.refusal
        return ready(form | ({"note": self.note} if self.note else {}))


def net(load: Load, after: Point | None = None, upto: Point | None = None) -> NetResult:
    """The net changes of a window, and what a step would do with them.

    A column that holds a value that is none of its type is shown as text; of a feed, rows that contradict the layout are left out.
    """
    state = state_of(load)
    asked, whole = state.window(after, upto), after is None and upto is None
    found, bad = with_bad_values(lambda one: _net(load, one, asked, whole, one is not state), state, leaves_out=True)
    return replace(found, refusal=bad) if bad else found


def _net(load: Load, state: LoadState, asked: Window, whole: bool, as_text: bool) -> NetResult:
    read = read_net(state, asked)
    if whole:
        read = replace(read, net=drop_applied(state, read.net))
    refusal, counted, rows = "", dict[str, int](), None
    if not as_text:  # else what a step would do is not known: it would be refused
        try:
            found = _for_its_shape(state, asked, read.net)
            # As the ledger does: not those of tables beside the first.
            rounds = kept(state.shape.rounds(found, _moment(state, asked), state.held), sure=True)[0]
            counted = _counted(rounds)
            rows = _changed(state, rounds) if state.load.config.shape in ("rollup", "history") else None
            _refuse_what_a_step_would(state, read)
        except Refused as error:
            refusal = error.what
    note = noted(load, asked, read.left_out)
    return NetResult(load.name, *ends(load, asked), read.net, counted, rows, refusal, note)


def _for_its_shape(state: LoadState, asked: Window, net: NetParts) -> WindowParts:
    """What a step over a window would read: of net changes alone, it is read already."""
    shape = state.shape
    if not shape.every_change and not net.partial and (not shape.old_values or state.load.source.has_before_images):
        return WindowParts(net, partial(ordered, net))
    return read_window(state, asked, None).found


def _moment(state: LoadState, asked: Window) -> StepContext:
    """When a step over a window would be made: now."""
    watermark = state.watermark
    step, identity = (watermark.step + 1, watermark.identity) if watermark else (1, "")
    at = state.load.source.time_of(Position(asked.upto, asked.upto_token))
    return StepContext(datetime.now(UTC), step, asked.upto, at, identity)


def _refuse_what_a_step_would(state: LoadState, read: NetRead) -> None:
    """Refuse what a step over this window would refuse, as far as that shows without trying."""
    strict = state.load.config.strict
    if strict is None and not isinstance(state.load.source, LeanSource):
        refuse_doubtful(state, read)
    if strict and read.net.contradictions:
        raise Refused("changes contradict those before them, and strict = true refuses that.")
    for table in state.shape.tables():
        fit_of(state, table, state.watermark is not None, state.held.found(table.suffix))


def _changed(state: LoadState, rounds: Sequence[Edits]) -> NetParts:
    """What edits would do to the rows of a load's main table, as net changes of these rows."""
    if len(rounds) == 1:
        return NetParts.of(_changed_rows(state, rounds[0]))
    return shelved(((EVERY, _changed_rows(state, edits)) for edits in rounds), Totals())


def _changed_rows(state: LoadState, edits: Edits) -> NetChanges:
    """What some edits would do to the rows of a load's main table, as net changes of these rows."""
    table = state.shape.tables()[0]
    asked = [edits.put, edits.drop, edits.clean, edits.add, *edits.patch]
    kinds = pa.schema([table.schema.field(name) for name in table.key])
    keys = pa.concat_tables(
        [kinds.empty_table(), *(one.select(list(table.key)).cast(kinds) for one in asked if one is not None)]
    )
    before = state.held.rows("", table.schema.names, keys.group_by(list(table.key)).aggregate([]))
    after = applied(before, table.key, edits).rows
    return difference(table.key, before.schema, before.to_batches(), after.to_batches())[0]


def _counted(rounds: Sequence[Edits]) -> dict[str, int]:
    """How many rows each primitive would touch."""
    found = dict.fromkeys(("put", "patch", "drop", "append", "add"), 0)
    for one in rounds:
        for name in ("put", "drop", "add"):
            rows = getattr(one, name)
            found[name] += rows.num_rows if rows is not None else 0
        found["patch"] += sum(part.num_rows for part in one.patch)
        found["append"] += sum(batch.num_rows for batch in one.append)
    return found
