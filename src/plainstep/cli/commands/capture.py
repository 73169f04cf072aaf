"""plainstep capture: turning change capture on and off."""

from __future__ import annotations

import click

from plainstep.cli.console import echo_json, say
from plainstep.cli.options import HOW, JSON, open_project


@click.group()
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
@click.option("--despite-row-security", is_flag=True, help="PostgreSQL: though policies keep rows from some roles.")
@JSON
@click.pass_context
def capture_on(ctx: click.Context, place: str, key: str, how: str, despite_row_security: bool, as_json: bool) -> None:
    """Record every change of a table from now on."""
    from plainstep.cli.output import captures as holdings
    from plainstep.export import json as forms

    columns = tuple(name.strip() for name in key.split(",") if name.strip())
    info, new = open_project(ctx).capture_on(place, columns, how, despite_row_security)
    store = place.partition(".")[0]
    if as_json:
        echo_json(forms.capture(store, info))
    else:
        say(f"Capture is on for {store}.{info.table}." if new else f"Capture was on already for {store}.{info.table}.")
        holdings.captures([(store, info)])


@capture.command("off")
@click.argument("place", metavar="STORE.TABLE")
@HOW
@click.option("--yes", is_flag=True, help="Even if changes wait to be merged.")
@click.pass_context
def capture_off(ctx: click.Context, place: str, how: str, yes: bool) -> None:
    """Stop recording, and forget what was recorded.

    Refused while changes wait to be merged, unless --yes is given.
    """
    info = open_project(ctx).capture_off(place, how, yes)
    say(f"Capture is off for {place}. Recorded changes forgotten: {info.held:,}.")


@capture.command("refresh")
@click.argument("place", metavar="STORE.TABLE")
@HOW
@JSON
@click.pass_context
def capture_refresh(ctx: click.Context, place: str, how: str, as_json: bool) -> None:
    """Bring capture up to the table's columns."""
    from plainstep.cli.output import captures as holdings
    from plainstep.export import json as forms

    info, done = open_project(ctx).capture_refresh(place, how)
    store = place.partition(".")[0]
    if as_json:
        echo_json(forms.capture(store, info) | {"done": done})
    else:
        say(f"{place}: {done}.")
        holdings.captures([(store, info)])


@capture.command("list")
@click.argument("store", required=False)
@JSON
@click.pass_context
def capture_list(ctx: click.Context, store: str | None, as_json: bool) -> None:
    """What is captured, since when, and whether it can be trusted."""
    from plainstep.cli.output import captures as holdings
    from plainstep.export import json as forms

    found = open_project(ctx).captures(store)
    if as_json:
        echo_json([forms.capture(name, info) for name, info in found])
    else:
        holdings.captures(found)
