"""Commands that look, and change nothing."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from plainstep.cli.console import echo_json, say
from plainstep.cli.options import (
    JSON,
    LIMIT,
    LOAD,
    LOADS,
    UPTO,
    Asked,
    complain,
    of_a_window,
    of_some_changes,
    open_project,
    to_a_file,
)
from plainstep.cli.progress_bar import bar
from plainstep.stores.records import KINDS


@click.command()
@LOAD
@of_some_changes
@of_a_window
@click.option(
    "--unfiltered",
    is_flag=True,
    help="As the source tells them, without the load's where, columns and derive.",
)
@JSON
@click.pass_context
def look(ctx: click.Context, /, load: str, asked: Asked, unfiltered: bool, as_json: bool, **chosen: Any) -> None:
    """The raw changes, oldest first.

    By default those not yet merged. Counts are of the whole window, however few rows are shown.
    """
    from plainstep.cli.output import tables
    from plainstep.core.changes.filter import Filter

    only, project = Filter(**chosen), open_project(ctx)
    with bar():
        if asked.data:
            to_a_file(project.changes(load, asked.after, asked.upto, only, unfiltered), asked.data, asked.out)
            return
        found = project.look(load, asked.after, asked.upto, asked.room, asked.skip, only, unfiltered)
    if as_json:
        echo_json(found.to_dict())
    else:
        tables.look(found, asked.page)


@click.command()
@LOAD
@of_a_window
@JSON
@click.pass_context
def net(ctx: click.Context, load: str, asked: Asked, as_json: bool) -> None:
    """The net changes, and what a step would do with them.

    By default of those changes that are not yet merged.
    """
    from plainstep.cli.output import tables

    with bar():
        found = open_project(ctx).net(load, asked.after, asked.upto)
    if asked.data:
        to_a_file(iter([found.net.to_arrow()]), asked.data, asked.out)
    elif as_json:
        echo_json(found.to_dict(asked.room, asked.skip))
    else:
        tables.net(found, asked.room, asked.skip)


@click.command()
@LOAD
@click.argument("key", metavar="KEY...", nargs=-1, required=True)
@click.option("--at", metavar="X", help="The row as it was then: a position, a time, start or head.")
@JSON
@click.pass_context
def trace(ctx: click.Context, load: str, key: tuple[str, ...], at: str | None, as_json: bool) -> None:
    """The life of one row, and the row as it was.

    What happened to it, when, by whom, and which step merged it. KEY is a value for each column of the key. Of a row that
    is gone, it shows the statement that would bring it back.
    """
    from plainstep.cli.output import tables

    with bar():
        found = open_project(ctx).trace(load, *key, at=at)
    if as_json:
        echo_json(found.to_dict())
    else:
        tables.trace(found)


@click.command()
@LOAD
@of_some_changes
@click.option("--after", required=True, metavar="X", help="Undo changes from here on, X itself excluded.")
@UPTO
@click.option("--over-later", is_flag=True, help="Also rows that changed again since.")
@click.option(
    "-o", "--out", metavar="FILE", type=click.Path(path_type=Path, dir_okay=False), help="The script to write."
)
@click.pass_context
def restore(
    ctx: click.Context, /, load: str, after: str, upto: str | None, over_later: bool, out: Path | None, **chosen: Any
) -> None:
    """SQL that brings rows back to what they were.

    Writes the statements that undo updates and deletes of a window at the source. It does not run them.
    """
    from plainstep.core.changes.filter import Filter
    from plainstep.formats.writer import new_file

    with bar():
        found = open_project(ctx).restore(load, after, upto, Filter(**chosen), over_later)
    if out is None:
        say(found.to_sql().rstrip())
        return
    with new_file(out) as script:
        script.write(found.to_sql().encode())
    already = f"; as they were already: {found.already:,}" if found.already else ""
    say(
        f"{out}: {found.inserts:,} to insert, {found.updates:,} to update{already}. Read it, then run it in {found.table.partition('.')[0]}.",
        err=True,
    )


@click.command()
@click.option(
    "-o",
    "--out",
    default="plainstep.html",
    show_default=True,
    metavar="FILE",
    type=click.Path(path_type=Path, dir_okay=False),
    help="The file to write.",
)
@click.pass_context
def report(ctx: click.Context, out: Path) -> None:
    """One self-contained HTML page on all loads.

    The state of every load, its steps drawn, its latest changes.
    """
    project = open_project(ctx)
    project.report(out)
    say(f"{out}: {len(project.loads)} loads.", err=True)


@click.command()
@LOADS
@click.option(
    "--metrics",
    metavar="FILE",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write OpenMetrics text to a file.",
)
@JSON
@click.pass_context
def status(ctx: click.Context, loads: tuple[str, ...], metrics: Path | None, as_json: bool) -> None:
    """Where each load stands, and how it is.

    Its watermark, changes waiting, lag, what its source holds, and its health with the command that fixes it.

    Exit status: 0 if all is well, 3 if a load is at risk, 4 if one refuses or its capture has stopped.
    """
    from plainstep.cli.output import tables

    found = open_project(ctx).status(*loads)
    if metrics is not None:
        from plainstep.export.openmetrics import openmetrics
        from plainstep.formats.writer import file_or

        with file_or(None if str(metrics) == "-" else metrics, sys.stdout.buffer) as out:
            out.write(openmetrics(found).encode())
    if as_json:
        echo_json([one.to_dict() for one in found])
    elif str(metrics) != "-":  # a monitor that reads the metrics reads nothing else
        tables.status(found)
    ctx.exit(max((one.exit_status for one in found), default=0))


@click.command()
@click.argument("load", required=False)
@click.option("--kind", type=click.Choice(KINDS), help="Only steps of this kind.")
@click.option("--since", metavar="TIME", help="Only steps made from this time on (ISO 8601).")
@click.option("--totals", is_flag=True, help="What they came to, a line a load.")
@LIMIT
@JSON
@click.pass_context
def ledger(
    ctx: click.Context, load: str | None, kind: str | None, since: str | None, totals: bool, limit: int, as_json: bool
) -> None:
    """The steps so far, oldest first."""
    from plainstep.cli.output import tables
    from plainstep.core.points import parse_time
    from plainstep.views import ledger as ledgers

    project = open_project(ctx)
    entries = project.ledger(load, None if totals else limit, kind or "", parse_time(since) if since else None)
    sums = ledgers.totals(entries) if totals else []
    if as_json:
        echo_json([one.to_dict() for one in sums] if totals else [one.to_dict() for one in entries])
    elif totals:
        tables.totals(sums)
    else:
        tables.ledger(entries)
        for one in project.status(*([load] if load else ())):
            if one.health == "refuses":
                say(f"{one.load}: its next step would be refused: {one.reason.rstrip('.')}. {one.remedy}", err=True)


@click.command()
@LOADS
@click.option("--columns", default="", metavar="COLUMN,...", help="Compare only these, beside the key.")
@click.option("--where", default="", metavar="SQL", help="Compare only rows for which this holds.")
@click.option(
    "--sample",
    default=100.0,
    metavar="PERCENT",
    type=click.FloatRange(0, 100, min_open=True),
    help="Compare only a share of the keys.",
)
@click.option("--repair", is_flag=True, help="Merge exactly what differs; recorded in the ledger.")
@click.option("--yes", is_flag=True, help="Do it also where changes that were merged are gone.")
@JSON
@click.pass_context
def check(
    ctx: click.Context,
    loads: tuple[str, ...],
    columns: str,
    where: str,
    sample: float,
    repair: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Compare target with source, row by row.

    Both as they stood at the watermark: changes still waiting are allowed for.
    """
    from plainstep.cli.output import tables
    from plainstep.core.diff import Scope
    from plainstep.loads import check as checks

    scope = Scope(tuple(filter(None, map(str.strip, columns.split(",")))), where, sample / 100)
    with bar():
        project = open_project(ctx)
        found = project.check(*loads, scope=scope, repair=repair, incomplete=yes, raise_errors=False)
    for load in () if loads else project.loads.values():
        if why := checks.left_out(load):
            say(f"{load.name} is left out: {why}.", err=True)
    if as_json:
        echo_json([one.to_dict() for one in found])
    elif any(not one.error for one in found):
        tables.check(found)
    errors = [one.error for one in found if one.error]
    for error in errors:
        complain(error, error.load if len(found) > 1 else "")
    differs = any(not (one.ok or one.repaired or one.error) for one in found)
    ctx.exit(max([error.exit_status for error in errors] + [3] * differs, default=0))
