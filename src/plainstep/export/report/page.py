"""One self-contained HTML page: the state of every load, what its steps did, and its latest changes."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from plainstep.display.records import changes
from plainstep.display.text import local, number, shown, span
from plainstep.errors import PlainStepError
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


def page(name: str, loads: list[tuple[Load, LoadStatus]]) -> str:
    """The page, as HTML that needs nothing besides: no network, no other file.

    Args:
        name: what the page is of.
        loads: the loads, and where each stands.
    """
    parts = []
    for load, status in loads:
        part = _part(load, status)
        part.figures = figures(part.steps)
        parts.append(part)
    environment = Environment(
        loader=PackageLoader("plainstep.export.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
    )
    environment.filters.update(number=number, lag=span, moment=local, value=shown)
    template = environment.get_template("page.html")
    return template.render(parts=parts, made=datetime.now(UTC), name=name)


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
