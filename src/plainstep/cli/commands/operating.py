"""Commands that step, repair and move."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from datetime import timedelta
from typing import TYPE_CHECKING

import click

from plainstep.cli.console import echo_json, say
from plainstep.cli.options import JSON, LOAD, LOADS, Duration, complain, open_project
from plainstep.cli.progress_bar import bar
from plainstep.errors import need

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.project import Project
    from plainstep.views.status import LoadStatus


ENGINE = click.option(
    "--engine",
    type=click.Choice(["local", "spark"]),
    help="What steps: this process, or a Spark cluster. Default: as [engine] says.",
)


@click.command()
@LOADS
@click.option("--until-done", is_flag=True, help="Go on with a load that leaves changes to its next step (at_most).")
@click.option("--jobs", type=click.IntRange(1, 64), default=1, show_default=True, help="How many loads step at once.")
@ENGINE
@JSON
@click.pass_context
def step(
    ctx: click.Context, loads: tuple[str, ...], until_done: bool, jobs: int, engine: str | None, as_json: bool
) -> None:
    """One step of each load named, or of all."""
    from plainstep.cli.output import tables

    with bar():
        outcomes = with_engine(open_project(ctx), engine).step(
            *loads, raise_errors=False, until_done=until_done, jobs=jobs
        )
    if as_json:
        echo_json([one.to_dict() for one in outcomes])
    else:
        tables.outcomes(outcomes)
    for outcome in outcomes:
        if outcome.error:
            complain(outcome.error, outcome.load)
    ctx.exit(max((outcome.error.exit_status for outcome in outcomes if outcome.error), default=0))


@click.command()
@LOADS
@click.option(
    "--every",
    type=Duration(),
    default="30s",
    show_default=True,
    metavar="TIME",
    help="How long to rest between the steps of a load.",
)
@click.option("--json", "as_json", is_flag=True, help="Log JSON, a line a step.")
@click.option(
    "--listen",
    default="",
    metavar="[HOST:]PORT",
    help="Serve the report, always current, and /metrics, /health, /status.json and /ledger.json: read only, and to this machine alone unless HOST says otherwise.",
)
@ENGINE
@click.pass_context
def run(
    ctx: click.Context, loads: tuple[str, ...], every: timedelta, as_json: bool, listen: str, engine: str | None
) -> None:
    """Keep stepping until told to stop (SIGTERM, Ctrl-C).

    Each load named, or all. A step with nothing to read logs nothing. A load that fails rests longer and longer, and does not block the others.
    """
    from plainstep.cli.output import runner as ticks
    from plainstep.loads.runner import until_told

    going = with_engine(open_project(ctx), engine).run(
        *loads, every=every, tell=ticks.in_json if as_json else ticks.in_text
    )
    with until_told(going), page(ctx, listen) if listen else nullcontext():
        going.run()


def with_engine(project: Project, engine: str | None) -> Project:
    """A project whose loads are stepped as a command's words say."""
    if engine:
        project.choose_engine(engine)
    return project


@contextmanager
def page(ctx: click.Context, listen: str) -> Iterator[None]:
    """Serve the page meanwhile."""
    for library in ("jinja2", "matplotlib"):
        need(library, "report", "A page is served with figures")
    from plainstep.export.live import Live, address_of, served

    def loads() -> list[tuple[Load, LoadStatus]]:
        project = open_project(ctx)  # its own, each time: stores are used in the thread that asks
        return [(project.load(one.load), one) for one in project.status()]

    live = Live(ctx.obj.resolve().parent.name, loads, lambda count: open_project(ctx).ledger(limit=count))
    with served(live, address_of(listen)) as url:
        say(f"The report is at {url}", err=True)
        yield


@click.command()
@LOAD
@click.option("--to", metavar="X", help="Move the watermark here: a position, a time, start or head.")
@click.option("--reason", default="", help="Why, for the ledger.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@JSON
@click.pass_context
def watermark(ctx: click.Context, load: str, to: str | None, reason: str, yes: bool, as_json: bool) -> None:
    """Show a load's watermark, or move it without merging anything."""
    from plainstep.cli.output import tables

    project = open_project(ctx)
    if to is not None:
        if not yes:
            tables.move(project.load(load), to)
            click.confirm("Move the watermark?", abort=True, err=True)
        project.move_watermark(load, to, reason)
    [found] = project.status(load)
    if as_json:
        echo_json(found.to_dict())
    else:
        tables.watermark(found)


@click.command()
@LOAD
@click.option("--yes", is_flag=True, help="Do it also where changes that were merged are gone.")
@JSON
@click.pass_context
def reload(ctx: click.Context, load: str, yes: bool, as_json: bool) -> None:
    """A fresh snapshot of the source, merged as differences."""
    from plainstep.cli.output import tables

    with bar():
        outcome = open_project(ctx).reload(load, incomplete=yes)
    if as_json:
        echo_json(outcome.to_dict())
    else:
        tables.outcomes([outcome])


@click.command()
@click.argument("place", metavar="STORE[.TABLE]")
@click.option("--keep", type=Duration(), metavar="TIME", help="Keep what is younger than this, as in 72h or 7d.")
@click.option("--yes", is_flag=True, help="Do it. Without this, only what would go is shown.")
@click.option("--forget", metavar="READER", help="Remove a reader that will never come back.")
@JSON
@click.pass_context
def trim(ctx: click.Context, place: str, keep: timedelta | None, yes: bool, forget: str | None, as_json: bool) -> None:
    """Forget captured changes that every known reader has merged."""
    from plainstep.cli.output import captures as holdings

    project = open_project(ctx)
    if forget is not None:
        count = project.forget(place.partition(".")[0], forget)
        say(f"Removed: {forget}." if count else f"No reader is called {forget!r}.", err=True)
    found = project.trim(place, keep, yes)
    if as_json:
        echo_json([one.to_dict() for one in found])
    else:
        holdings.trimmed(found)


@click.command()
@LOAD
@click.argument("key", nargs=-1, required=True)
@click.option("--yes", is_flag=True, help="Do it. Without this, only what would be erased is shown.")
@JSON
@click.pass_context
def erase(ctx: click.Context, load: str, key: tuple[str, ...], yes: bool, as_json: bool) -> None:
    """Erase one row's values wherever they are kept.

    KEY: the values of the key's columns, in their order. The row must be gone from its own table, and its delete merged.
    """
    from plainstep.cli.output import erased

    found = open_project(ctx).erase(load, *key, really=yes)
    if as_json:
        echo_json(found.to_dict())
    else:
        erased.places(found)


@click.command()
@LOADS
@click.option("--retry", is_flag=True, help="Read them once more, and merge those that are in order now.")
@JSON
@click.pass_context
def quarantine(ctx: click.Context, loads: tuple[str, ...], retry: bool, as_json: bool) -> None:
    """Rows that contradicted their layout, and were quarantined.

    Where a load says on_bad_row = "quarantine".
    """
    from plainstep.cli.output import quarantine as output

    project = open_project(ctx)
    if retry:
        found = [project.retry(name) for name in loads or project.loads]
        if as_json:
            echo_json([one.to_dict() for one in found])
        else:
            output.retried(found)
        return
    rows = project.quarantine(*loads)
    if as_json:
        echo_json([{"load": load, **row.to_dict()} for load, row in rows])
    else:
        output.rows(rows)
