"""The command line: parse, call, print. What is done is done by ``plainstep.project.Project``."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from plainstep import __version__
from plainstep.cli.bars import bar
from plainstep.errors import PlainStepError

if TYPE_CHECKING:
    from plainstep.project import Project

Command = TypeVar("Command", bound=Callable[..., Any])

JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of text.")
AFTER = click.option("--after", metavar="X", help="From here on, X itself excluded: a position, a time, start or head.")
UPTO = click.option("--upto", metavar="Y", help="Up to here, Y itself included: a position, a time, start or head.")
LIMIT = click.option(
    "--limit", default=100, show_default=True, type=click.IntRange(min=0), help="How many rows to show."
)
HOW = click.option(
    "--how",
    type=click.Choice(["capture", "log"]),
    default="capture",
    show_default=True,
    help="By triggers into change tables, or by following the server's own log.",
)
ALL = click.option("--all", "every", is_flag=True, help="Show every row.")


def of_a_window(command: Command) -> Command:
    """The options of a command that shows rows of a window."""
    for option in (ALL, LIMIT, UPTO, AFTER):
        command = option(command)
    return command


class Commands(click.Group):
    """A group that tells our errors in three lines, without a traceback."""

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command, and turn errors into messages and exit statuses."""
        try:
            return super().invoke(ctx)
        except PlainStepError as error:
            if ctx.params.get("debug"):
                raise
            complain(error)
            ctx.exit(error.exit_status)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except BrokenPipeError:
            sys.stderr.close()  # the reader of our output has had enough
            ctx.exit(0)
        except Exception as error:
            if ctx.params.get("debug"):
                raise
            click.echo(f"Something unforeseen went wrong: {type(error).__name__}: {error}", err=True)
            click.echo("Run the command again with plainstep --debug to see where.", err=True)
            ctx.exit(1)


def complain(error: PlainStepError, load: str = "") -> None:
    """Print an error to stderr."""
    first, *rest = str(error).splitlines()
    click.echo(click.style(f"{load}: " if load else "", bold=True, fg="bright_red") + first, err=True)
    for line in rest:
        click.echo(f"  {line}", err=True)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.option(
    "-c",
    "--config",
    "config",
    metavar="FILE",
    default="plainstep.toml",
    show_default=True,
    type=click.Path(path_type=Path),
    help="The configuration.",
)
@click.option("--debug", is_flag=True, help="Show where an error came from.")
@click.version_option(__version__, prog_name="plainstep")
@click.pass_context
def cli(ctx: click.Context, config: Path, debug: bool) -> None:
    """Incremental loads, one plain step at a time.

    Reads the changes in a window, collapses them to net changes, merges them and moves the watermark, all in one
    commit.

    Exit status: 0 done (nothing to do is done), 1 failed, 2 wrong usage or configuration, 3 check found a
    difference, 4 refused to protect data.
    """
    ctx.obj = config


def project(ctx: click.Context) -> Project:
    """The project that -c names."""
    from plainstep.project import load_project

    return load_project(ctx.obj)


@cli.command()
@click.argument("directory", metavar="[DIR]", default="larkmoor", type=click.Path(path_type=Path, file_okay=False))
def demo(directory: Path) -> None:
    """Build the demo data in DIR and walk through the whole job."""
    from plainstep.demo import tour

    def run(*words: str) -> None:
        cli.main(["-c", str(directory / "plainstep.toml"), *words], prog_name="plainstep", standalone_mode=False)

    tour(directory, run)


@cli.command()
@click.argument("loads", metavar="[LOAD]...", nargs=-1)
@JSON
@click.pass_context
def step(ctx: click.Context, loads: tuple[str, ...], as_json: bool) -> None:
    """One step of each load named, or of all."""
    from plainstep.cli import forms, tables

    with bar():
        outcomes = project(ctx).step(*loads, raise_errors=False)
    if as_json:
        forms.echo([forms.outcome(outcome) for outcome in outcomes])
    else:
        tables.outcomes(outcomes)
    for outcome in outcomes:
        if outcome.error:
            complain(outcome.error, outcome.load)
    ctx.exit(max((outcome.error.exit_status for outcome in outcomes if outcome.error), default=0))


@cli.command()
@click.argument("load")
@of_a_window
@JSON
@click.pass_context
def look(
    ctx: click.Context, load: str, after: str | None, upto: str | None, limit: int, every: bool, as_json: bool
) -> None:
    """The raw changes, oldest first; by default those not yet merged."""
    from plainstep.cli import forms, tables

    with bar():
        found = project(ctx).look(load, after, upto, None if every else limit)
    if as_json:
        forms.echo(forms.look(found))
    else:
        tables.look(found)


@cli.command()
@click.argument("load")
@of_a_window
@JSON
@click.pass_context
def net(
    ctx: click.Context, load: str, after: str | None, upto: str | None, limit: int, every: bool, as_json: bool
) -> None:
    """The net changes, and what a step would do with them."""
    from plainstep.cli import forms, tables

    with bar():
        found = project(ctx).net(load, after, upto)
    room = None if every else limit
    if as_json:
        forms.echo(forms.net(found, room))
    else:
        tables.net(found, room)


@cli.command()
@click.argument("loads", metavar="[LOAD]...", nargs=-1)
@JSON
@click.pass_context
def status(ctx: click.Context, loads: tuple[str, ...], as_json: bool) -> None:
    """Where each load stands: mark, changes waiting, lag, health."""
    from plainstep.cli import forms, tables

    found = project(ctx).status(*loads)
    if as_json:
        forms.echo([forms.status(one) for one in found])
    else:
        tables.status(found)


@cli.command()
@click.argument("load", required=False)
@LIMIT
@JSON
@click.pass_context
def ledger(ctx: click.Context, load: str | None, limit: int, as_json: bool) -> None:
    """The steps so far, oldest first."""
    from plainstep.cli import forms, tables

    entries = project(ctx).ledger(load, limit)
    if as_json:
        forms.echo([forms.entry(one) for one in entries])
    else:
        tables.ledger(entries)


@cli.command()
@click.argument("loads", metavar="[LOAD]...", nargs=-1)
@JSON
@click.pass_context
def check(ctx: click.Context, loads: tuple[str, ...], as_json: bool) -> None:
    """Compare target with source, allowing for changes still waiting."""
    from plainstep.cli import forms, tables

    with bar():
        found = project(ctx).check(*loads)
    if as_json:
        forms.echo([forms.check(one) for one in found])
    else:
        tables.check(found)
    ctx.exit(0 if all(one.ok for one in found) else 3)


@cli.command()
@click.argument("load")
@click.option("--to", metavar="X", help="Move the mark here: a position, a time, start or head.")
@click.option("--reason", default="", help="Why, for the ledger.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@JSON
@click.pass_context
def mark(ctx: click.Context, load: str, to: str | None, reason: str, yes: bool, as_json: bool) -> None:
    """Show a load's mark, or move it without merging anything."""
    from plainstep.cli import forms, tables

    town = project(ctx)
    if to is not None:
        if not yes:
            tables.move(town.load(load), to)
            click.confirm("Move the mark?", abort=True, err=True)
        town.move_mark(load, to, reason)
    [found] = town.status(load)
    if as_json:
        forms.echo(forms.status(found))
    else:
        tables.mark(found)


@cli.command()
@click.argument("load")
@JSON
@click.pass_context
def reload(ctx: click.Context, load: str, as_json: bool) -> None:
    """A fresh snapshot of the source, merged as differences."""
    from plainstep.cli import forms, tables

    with bar():
        outcome = project(ctx).reload(load)
    if as_json:
        forms.echo(forms.outcome(outcome))
    else:
        tables.outcomes([outcome])


@cli.command()
@click.option(
    "--changes",
    "place",
    metavar="STORE.TABLE",
    required=True,
    help="A change table, or files, that something else fills.",
)
@click.option("--into", default="", metavar="STORE", help="The store to merge into.")
@click.option("--key", default="", metavar="COLUMN,...", help="The columns that tell rows apart, if you know them.")
@click.pass_context
def init(ctx: click.Context, place: str, into: str, key: str) -> None:
    """Look at a change table or files, and propose a commented layout for them."""
    columns = tuple(name.strip() for name in key.split(",") if name.strip())
    click.echo(project(ctx).propose(place, into, columns), nl=False)


@cli.command()
@click.argument("loads", metavar="[LOAD]...", nargs=-1)
@click.option("--back", is_flag=True, help="Read them once more, and merge those that are in order now.")
@JSON
@click.pass_context
def aside(ctx: click.Context, loads: tuple[str, ...], back: bool, as_json: bool) -> None:
    """The rows that contradicted their layout and were set aside (bad = "aside")."""
    from plainstep.cli import asides, forms

    town = project(ctx)
    if back:
        found = [town.put_back(name) for name in loads or town.loads]
        if as_json:
            forms.echo([forms.put_back(one) for one in found])
        else:
            asides.put_back(found)
        return
    rows = town.aside(*loads)
    if as_json:
        forms.echo([forms.aside(load, row) for load, row in rows])
    else:
        asides.rows(rows)


@cli.group()
def capture() -> None:
    """Turn change capture on or off, and see what is captured."""


@capture.command("on")
@click.argument("place", metavar="STORE.TABLE")
@click.option(
    "--key",
    default="",
    metavar="COLUMN,...",
    help="Unique columns that are never null; default: the primary key.",
)
@HOW
@JSON
@click.pass_context
def capture_on(ctx: click.Context, place: str, key: str, how: str, as_json: bool) -> None:
    """Record every change of a table from now on."""
    from plainstep.cli import forms, tables

    columns = tuple(name.strip() for name in key.split(",") if name.strip())
    info, new = project(ctx).capture_on(place, columns, how)
    store = place.partition(".")[0]
    if as_json:
        forms.echo(forms.capture(store, info))
    else:
        click.echo(
            f"Capture is on for {store}.{info.table}." if new else f"Capture was on already for {store}.{info.table}."
        )
        tables.captures([(store, info)])


@capture.command("off")
@click.argument("place", metavar="STORE.TABLE")
@HOW
@click.pass_context
def capture_off(ctx: click.Context, place: str, how: str) -> None:
    """Stop recording, and forget what was recorded."""
    info = project(ctx).capture_off(place, how)
    click.echo(f"Capture is off for {place}. Recorded changes forgotten: {info.held:,}.")


@capture.command("refresh")
@click.argument("place", metavar="STORE.TABLE")
@HOW
@JSON
@click.pass_context
def capture_refresh(ctx: click.Context, place: str, how: str, as_json: bool) -> None:
    """Bring capture up to the table's columns."""
    from plainstep.cli import forms, tables

    info, done = project(ctx).capture_refresh(place, how)
    store = place.partition(".")[0]
    if as_json:
        forms.echo(forms.capture(store, info) | {"done": done})
    else:
        click.echo(f"{place}: {done}.")
        tables.captures([(store, info)])


@capture.command("list")
@click.argument("store", required=False)
@JSON
@click.pass_context
def capture_list(ctx: click.Context, store: str | None, as_json: bool) -> None:
    """What is captured, since when, and whether it can be trusted."""
    from plainstep.cli import forms, tables

    found = project(ctx).captures(store)
    if as_json:
        forms.echo([forms.capture(name, info) for name, info in found])
    else:
        tables.captures(found)
