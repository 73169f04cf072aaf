"""The drawings of the report, as SVG that takes its text colour from the page."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, Any, cast

from matplotlib import rc_context
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from plainstep.stores.records import LedgerEntry

# Colours that people who see colours differently can tell apart; hatching and labels tell them apart without.
INSERT, UPDATE, DELETE = "#0072B2", "#E69F00", "#D55E00"
# Inches.
SIZE = (5.6, 2.6)
# Stands for the page's text colour until the drawing is put into it.
TEXT = "#010203"
STYLE: dict[str, Any] = {
    "svg.fonttype": "none",  # texts stay texts: they can be read, searched and scaled
    "svg.hashsalt": "plainstep",
    "text.parse_math": False,  # a name is a name, whatever signs are in it
    "text.color": TEXT, "axes.labelcolor": TEXT, "axes.edgecolor": TEXT, "xtick.color": TEXT, "ytick.color": TEXT,
    "axes.spines.top": False, "axes.spines.right": False, "axes.grid": True, "grid.alpha": 0.25, "grid.color": TEXT,
    "font.family": "sans-serif", "font.size": 10, "legend.frameon": False, "axes.axisbelow": True,
}  # fmt: skip


def figures(steps: list[LedgerEntry]) -> list[tuple[str, str]]:
    """Pairs of what a drawing shows and the drawing; none where too few steps were made."""
    merged = [one for one in steps if one.kind == "changes" and one.at]
    found = []
    marks = [one for one in steps if one.at]
    if len(marks) > 1 and any(one.upto for one in marks):  # positions that are texts have no number
        found.append(("Watermark, over time", _drawn(lambda axes: _marks(axes, marks))))
    dated = [one for one in merged if one.lag_seconds is not None]  # of most files, nobody knows when changes were made
    if dated:
        found.append(("Lag: age of the oldest change when it was merged", _drawn(lambda axes: _lags(axes, dated))))
    if merged:
        found.append(("Changes read, and net changes they came to", _drawn(lambda axes: _collapsing(axes, merged))))
        found.append(("Net changes by operation, step by step", _drawn(lambda axes: _operations(axes, merged))))
        found.append(("Time by phase, step by step", _drawn(lambda axes: _phases(axes, merged))))
    return found


def _drawn(draw: Callable[[Axes], None]) -> str:
    with rc_context(cast(Any, STYLE)):
        figure = Figure(figsize=SIZE)
        axes = figure.subplots()
        draw(axes)
        # Matplotlib can measure what it draws and make room for it, but that takes as long as all the rest.
        points = 36 + 6.4 * len(_plain(axes.get_ylim()[1]))  # the label of the axis, and the longest number beside it
        figure.subplots_adjust(
            left=points / (72 * SIZE[0]), right=0.97, top=0.84 if axes.get_legend() else 0.96, bottom=0.2
        )
        out = io.StringIO()
        figure.savefig(out, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    svg = out.getvalue()[out.getvalue().index("<svg") :]
    svg = re.sub(r'(<svg[^>]*?) width="[^"]*" height="[^"]*"', r"\1", svg, count=1)
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    return svg.replace(TEXT, "currentColor")


# Days that an axis of time spans at least: there are no ticks for less.
SHORTEST = 10 / 86400


def _times(axes: Axes) -> None:
    begin, end = axes.dataLim.x0, axes.dataLim.x1
    if end - begin < SHORTEST:
        axes.set_xlim((begin + end - SHORTEST) / 2, (begin + end + SHORTEST) / 2)
    locator = AutoDateLocator(maxticks=6)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    axes.yaxis.set_major_formatter(lambda value, _: _plain(value))


def _plain(value: float) -> str:
    return f"{value:,.10g}"


def _whole(axes: Axes) -> None:
    """Whole numbers beside an axis of whole things."""
    axes.yaxis.set_major_locator(MaxNLocator(integer=True, nbins=6))


def _when(steps: list[LedgerEntry]) -> list[Any]:
    return [one.at.astimezone().replace(tzinfo=None) if isinstance(one.at, datetime) else None for one in steps]


def _marks(axes: Axes, steps: list[LedgerEntry]) -> None:
    axes.step(_when(steps), [one.upto for one in steps], where="post", color=INSERT, marker="o", markersize=3)
    axes.set_ylabel("position")
    _times(axes)
    _whole(axes)


def _lags(axes: Axes, steps: list[LedgerEntry]) -> None:
    axes.plot(_when(steps), [one.lag_seconds for one in steps], color=INSERT, marker="o", markersize=3)  # type: ignore[arg-type]
    axes.set_ylabel("seconds")
    axes.set_ylim(bottom=0)
    _times(axes)


def _bars(axes: Axes, steps: list[LedgerEntry], series: list[tuple[str, str, str, list[float]]], what: str) -> None:
    """Bars on top of each other, a step each: label, colour, hatching and heights of each part."""
    numbers = [one.step for one in steps]
    floor = [0.0] * len(steps)
    for label, colour, hatch, heights in series:
        axes.bar(
            numbers, heights, bottom=floor, color=colour, hatch=hatch, edgecolor="white", linewidth=0.4, label=label
        )
        floor = [below + height for below, height in zip(floor, heights, strict=True)]
    _numbered(axes, what)


def _numbered(axes: Axes, what: str) -> None:
    axes.set_xlabel("step")
    axes.set_ylabel(what)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True, nbins=8))
    axes.yaxis.set_major_formatter(lambda value, _: _plain(value))
    axes.set_ylim(top=axes.dataLim.y1 * 1.08 or 1)
    axes.legend(loc="upper left", bbox_to_anchor=(0, 1.22), ncols=3, fontsize=9, borderaxespad=0)


def _collapsing(axes: Axes, steps: list[LedgerEntry]) -> None:
    read = [one.changes for one in steps]
    net = [one.inserts + one.updates + one.deletes for one in steps]
    axes.bar(
        [one.step - 0.2 for one in steps],
        read,
        width=0.4,
        color="#999999",
        hatch="//",
        edgecolor="white",
        linewidth=0.4,
        label="read",
    )
    axes.bar([one.step + 0.2 for one in steps], net, width=0.4, color=INSERT, label="net")
    _numbered(axes, "changes")
    _whole(axes)


def _operations(axes: Axes, steps: list[LedgerEntry]) -> None:
    series: list[tuple[str, str, str, list[float]]] = [
        ("insert", INSERT, "", [one.inserts for one in steps]),
        ("update", UPDATE, "//", [one.updates for one in steps]),
        ("delete", DELETE, "xx", [one.deletes for one in steps]),
    ]
    _bars(axes, steps, series, "net changes")
    _whole(axes)


def _phases(axes: Axes, steps: list[LedgerEntry]) -> None:
    series = [
        ("reading and collapsing", "#56B4E9", "", [one.read_seconds for one in steps]),
        ("the target", "#009E73", "//", [one.seconds - one.read_seconds for one in steps]),
    ]
    _bars(axes, steps, series, "seconds")
