"""plainstep capture: turning change capture on and off."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from plainstep.cli.console import echo_json, say
from plainstep.cli.options import HOW, JSON, complain, open_project
from plainstep.errors import PlainStepError

if TYPE_CHECKING:
    from plainstep.project import Project
    from plainstep.stores.records import CaptureInfo


PLACES = click.argument("places", metavar="[STORE.TABLE]...", nargs=-1)
EVERY = click.option("--all", "every", is_flag=True, help="Every table that a load of the configuration reads so.")


def _each(project: Project, places: tuple[str, ...], every: bool, how: str, do: Callable[[str], None]) -> int:
    """Do something for each table, whatever fails for one; the exit status."""
    if every == bool(places):
        raise click.UsageError("Name tables as STORE.TABLE, or give --all for those of the configuration.")
    status = 0
    for place in places or project.read_by(how):
        try:
            do(place)
        except PlainStepError as error:
            complain(error, place if every or len(places) > 1 else "")
            status = max(status, error.exit_status)
    return status


@click.group()
def capture() -> None:
    """Turn change capture on or off, and see what is captured."""


@capture.command("on")
@PLACES
@EVERY
@click.option(
    "--key",
    default="",
    metavar="COLUMN,...",
    help="Unique columns that are never null; default: the primary key.",
)
@click.option("--no-key", is_flag=True, help="The table has no key: its changes go into journals and events only.")
@HOW
@click.option("--despite-row-security", is_flag=True, help="PostgreSQL: though policies keep rows from some roles.")
@JSON
@click.pass_context
def capture_on(
    ctx: click.Context,
    places: tuple[str, ...],
    every: bool,
    key: str,
    no_key: bool,
    how: str,
    despite_row_security: bool,
    as_json: bool,
) -> None:
    """Record every change of some tables from now on."""
    from plainstep.cli.output import captures as holdings

    columns = tuple(name.strip() for name in key.split(",") if name.strip())
    if columns and no_key:
        raise click.UsageError("--key names columns, and --no-key says that there are none.")
    project = open_project(ctx)
    made: list[tuple[str, CaptureInfo]] = []

    def on(place: str) -> None:
        info, new = project.capture_on(place, None if no_key else columns, how, despite_row_security)
        made.append((place.partition(".")[0], info))
        if not as_json:
            say(
                f"Capture is on for {made[-1][0]}.{info.table}."
                if new
                else f"Capture was on already for {made[-1][0]}.{info.table}."
            )

    status = _each(project, places, every, how, on)
    if as_json:
        told = [{"store": name, **info.to_dict()} for name, info in made]
        echo_json(told[0] if len(places) == 1 and told else told)
    elif made:
        holdings.captures(made)
    ctx.exit(status)


@capture.command("off")
@PLACES
@EVERY
@HOW
@click.option("--yes", is_flag=True, help="Even if changes wait to be merged.")
@click.pass_context
def capture_off(ctx: click.Context, places: tuple[str, ...], every: bool, how: str, yes: bool) -> None:
    """Stop recording, and forget what was recorded.

    Refused while changes wait to be merged, unless --yes is given.
    """
    project = open_project(ctx)

    def off(place: str) -> None:
        info = project.capture_off(place, how, yes)
        say(f"Capture is off for {place}. Recorded changes forgotten: {info.held:,}.")

    ctx.exit(_each(project, places, every, how, off))


@capture.command("refresh")
@PLACES
@EVERY
@HOW
@JSON
@click.pass_context
def capture_refresh(ctx: click.Context, places: tuple[str, ...], every: bool, how: str, as_json: bool) -> None:
    """Bring captures up to their tables' columns."""
    from plainstep.cli.output import captures as holdings

    project = open_project(ctx)

    def refresh(place: str) -> None:
        info, done = project.capture_refresh(place, how)
        store = place.partition(".")[0]
        if as_json:
            echo_json({"store": store, **info.to_dict(), "done": done})
        else:
            say(f"{place}: {done}.")
            holdings.captures([(store, info)])

    ctx.exit(_each(project, places, every, how, refresh))


@capture.command("list")
@click.argument("store", required=False)
@JSON
@click.pass_context
def capture_list(ctx: click.Context, store: str | None, as_json: bool) -> None:
    """What is captured, since when, and whether it can be trusted."""
    from plainstep.cli.output import captures as holdings

    found = open_project(ctx).captures(store)
    if as_json:
        echo_json([{"store": name, **info.to_dict()} for name, info in found])
    else:
        holdings.captures(found)
