"""A guided tour of the whole job, on made-up data, with the real commands."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click

from plainstep.demo import town
from plainstep.errors import ConfigError


def tour(folder: Path, run: Callable[..., None]) -> None:
    """Build the demo data and walk through the whole job, saying what it does.

    Args:
        folder: where to put the files; it must not hold any yet.
        run: runs a command, given its words, and prints what it prints.

    Raises:
        ConfigError: the folder is not empty.
    """
    if folder.exists() and any(folder.iterdir()):
        raise ConfigError(
            f"{folder} is there already, and not empty.",
            "The tour builds its files anew and would write over yours.",
            f"plainstep demo OTHER_DIR, or remove {folder} first.",
        )

    def shown(*words: str) -> None:
        click.echo("\n" + click.style("$ plainstep " + " ".join(words), bold=True))
        run(*words)

    town.build(folder)
    _say(
        "Larkmoor",
        f"The town of Larkmoor keeps a register of its street trees in a SQLite database, {folder / 'town.db'}: "
        "5 wards, 240 trees, 1,000 inspections. Its analysts work in a DuckDB warehouse, "
        f"{folder / 'house.duckdb'}, which is to follow the register. {folder / 'plainstep.toml'} says so.",
    )
    _say(
        "1. Turn capture on",
        "From now on every change of these tables is recorded, by triggers, in the register itself.",
    )
    for table in ("ward", "tree", "inspection"):
        shown("capture", "on", f"town.{table}")
    _say("2. The first step", "It loads each table whole, and notes the position at which it stood.")
    shown("step")
    _say("3. A Monday in the register", "The town works on, and knows nothing of us:")
    _do(folder, town.MONDAY)
    _say("4. Look", "What was recorded, oldest first. Looking changes nothing: look as often as you like.")
    shown("look", "tree")
    _say(
        "5. Net",
        "Many changes of one tree come to one, or to none: trees 300 and 9 ended the day as they began it.",
    )
    shown("net", "tree")
    _say("6. The second step", "Read the changes, collapse them, merge them, move the mark: in one commit.")
    shown("step")
    _say(
        "7. And again",
        "Nothing changed since, so nothing is done. A step may be run at any time, by anyone, twice.",
    )
    shown("step")
    _say(
        "8. Check",
        "Is the warehouse really the same as the register? Every row and every column is compared.",
    )
    shown("check")
    _say("9. Tuesday", "A condemned tree, and an upload that replaces rows whole, as uploads do:")
    _do(folder, town.TUESDAY)
    shown("status")
    shown("net", "tree")
    shown("step")
    _say("10. The ledger", "Every step there ever was, kept in the warehouse, in the same commit as its rows.")
    shown("ledger")
    _say(
        "Go on by hand",
        f"The files stay in {folder}. Change the register with any SQLite client, then look, net, step and check:",
    )
    click.echo(f"  cd {folder}")
    for line in (
        "sqlite3 town.db \"UPDATE tree SET status = 'felled' WHERE tree_id = 42\"",
        "plainstep look tree",
        "plainstep look tree --after start --json",
        "plainstep step",
        "plainstep check",
    ):
        click.echo(f"  {line}")


def _say(title: str, text: str) -> None:
    click.echo()
    click.echo(click.style(title, bold=True))
    click.echo(click.wrap_text(text, width=100))


def _do(folder: Path, day: list[tuple[str, str]]) -> None:
    town.work(folder, day)
    for said, _ in day:
        if said:
            click.echo(f"  - {said}")
