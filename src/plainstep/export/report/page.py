"""One self-contained HTML page: the state of every load, what its steps did, and its latest changes."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from plainstep.display.records import changes
from plainstep.display.text import local, many, number, shown, span
from plainstep.errors import NoRows, PlainStepError
from plainstep.export.openmetrics import HEALTHS
from plainstep.export.report.figures import figures
from plainstep.formats.writer import new_file
from plainstep.loads.keys import key_of
from plainstep.stores.api import ForeignSource
from plainstep.views import changes as views
from plainstep.views import ledger as ledgers

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.stores.records import LedgerEntry
    from plainstep.views.status import LoadStatus

# How many steps the figures show, and how many of the newest changes are listed, of each load.
STEPS, CHANGES = 60, 15


@dataclass
class Part:
    """What the page says of one load.

    Attributes:
        status: where it stands.
        steps: its newest steps, oldest first.
        figures: drawings of them, as SVG.
        key: its key columns.
        changes: its newest changes, newest first, as ``look`` shows them.
        trouble: why these could not be read, or empty.
    """

    status: LoadStatus
    steps: list[LedgerEntry]
    figures: list[tuple[str, str]] = field(default_factory=list)
    key: tuple[str, ...] = ()
    changes: list[dict[str, Any]] = field(default_factory=list)
    trouble: str = ""


# Drawings of a load's steps, by its name, the number of its last step, and how many steps they show.
Drawn = dict[tuple[str, int, int], list[tuple[str, str]]]


def page(name: str, loads: list[tuple[Load, LoadStatus]], refresh: int = 0, drawn: Drawn | None = None) -> str:
    """The page, as HTML that needs nothing besides: no network, no other file.

    Args:
        name: what the page is of.
        loads: the loads, and where each stands.
        refresh: after how many seconds a browser asks for it again; 0 for never.
        drawn: drawings that were made before, which need not be made again; new ones are added.
    """
    parts, known = [], {} if drawn is None else drawn
    for load, status in loads:
        part = _part(load, status)
        which = (load.name, part.steps[-1].step if part.steps else 0, len(part.steps))
        if which not in known:
            known[which] = figures(part.steps)
        part.figures = known[which]
        parts.append(part)
    for old in known.keys() - {
        (one.status.load, one.steps[-1].step if one.steps else 0, len(one.steps)) for one in parts
    }:
        del known[old]
    environment = Environment(
        loader=PackageLoader("plainstep.export.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
    )
    environment.filters.update(number=number, lag=span, moment=local, value=shown)
    template = environment.get_template("page.html")
    summary = summed_up([status for _, status in loads])
    return template.render(parts=parts, made=datetime.now(UTC), name=name, refresh=refresh, summary=summary)


def summed_up(found: list[LoadStatus]) -> str:
    """Where all loads stand, in a line."""
    healths = Counter(str(one.health) for one in found)
    told = [f"{many(len(found), 'load')}: {', '.join(f'{healths[one]:,} {one}' for one in HEALTHS if healths[one])}"]
    lags = [one.lag_seconds for one in found if one.lag_seconds]
    return "; ".join([*told, f"the oldest change has waited for {span(max(lags))}" if lags else "nothing waits"])


def _part(load: Load, status: LoadStatus) -> Part:
    part = Part(status, [])
    try:
        part.steps = ledgers.ledger([load], STEPS)
        after = None
        if not isinstance(load.source, ForeignSource):  # its newest changes; of another feed, those that wait
            readable = load.source.span()
            after = str(max(readable.head - CHANGES, readable.oldest))
        found = views.look(load, after, limit=CHANGES)
        part.key = key_of(load, load.source.schema())
        part.changes = changes(found.changes, part.key)[::-1]
    except NoRows:
        pass  # an empty feed: what the load is to think of that, its health tells
    except PlainStepError as error:
        part.trouble = error.what
    return part


def write(path: Path, name: str, loads: list[tuple[Load, LoadStatus]]) -> None:
    """Write the page to a file, which gets its name when all is in it. See ``page``.

    Raises:
        StoreError: it cannot be written.
    """
    html = page(name, loads)
    with new_file(path) as out:
        out.write(html.encode())
