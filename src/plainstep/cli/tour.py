"""A guided tour of the whole job, on made-up data, with the real commands."""

from __future__ import annotations

import textwrap
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
    refuse_full(folder)

    shown = teller(run)
    town.build(folder)
    say_part(
        "Larkmoor",
        f"The town of Larkmoor keeps a register of its street trees in a SQLite database, {folder / 'town.db'}: "
        "5 wards, 240 trees, 1,000 inspections. Its analysts work in a DuckDB warehouse, "
        f"{folder / 'house.duckdb'}, which is to follow the register. {folder / 'plainstep.toml'} says so.",
    )
    say_part(
        "1. Turn capture on",
        "From now on every change of these tables is recorded, by triggers, in the register itself.",
    )
    for table in ("ward", "tree", "inspection"):
        shown("capture", "on", f"town.{table}")
    say_part("2. The first step", "It loads each table whole, and notes the position at which it stood.")
    shown("step")
    say_part("3. A Monday in the register", "The town works on, and knows nothing of us:")
    work_day(folder, town.MONDAY)
    say_part("4. Look", "What was recorded, oldest first. Looking changes nothing: look as often as you like.")
    shown("look", "tree")
    say_part(
        "5. Net",
        "Many changes of one tree come to one, or to none: trees 300 and 9 ended the day as they began it.",
    )
    shown("net", "tree")
    say_part("6. The second step", "Read the changes, collapse them, merge them, move the watermark: in one commit.")
    shown("step")
    say_part(
        "7. And again",
        "Nothing changed since, so nothing is done. A step may be run at any time, by anyone, twice.",
    )
    shown("step")
    say_part(
        "8. Check",
        "Is the warehouse really the same as the register? Every row and every column is compared.",
    )
    shown("check")
    say_part("9. Tuesday", "A condemned tree, and an upload that replaces rows whole, as uploads do:")
    work_day(folder, town.TUESDAY)
    shown("status")
    shown("net", "tree")
    shown("step")
    say_part("10. The ledger", "Every step there ever was, kept in the warehouse, in the same commit as its rows.")
    shown("ledger")
    _shapes(folder, shown)
    say_part(
        "Go on by hand",
        f"The files stay in {folder}. Change the register with any SQLite client, then look, net, step and check:",
    )
    click.echo(f"  cd {folder}")
    for line in (
        "sqlite3 town.db \"UPDATE tree SET status = 'felled' WHERE tree_id = 18\"",
        "plainstep look tree",
        "plainstep look tree --after start --json",
        "plainstep step",
        "plainstep check",
    ):
        click.echo(f"  {line}")


def teller(run: Callable[..., None]) -> Callable[..., None]:
    """What runs a command, and says first which it is."""

    def shown(*words: str, config: str = "") -> None:
        said = ["-c", config, *words] if config else words
        click.echo("\n" + click.style("$ plainstep " + " ".join(said), bold=True))
        run(*words, **({"config": config} if config else {}))

    return shown


def refuse_full(folder: Path) -> None:
    """Refuse a folder that holds anything.

    Raises:
        ConfigError: it does.
    """
    if folder.exists() and any(folder.iterdir()):
        raise ConfigError(
            f"{folder} already exists and is not empty.",
            "The tour would overwrite the files in it.",
            f"plainstep demo OTHER_DIR, or remove {folder} first.",
        )


HISTORY = """SELECT tree_id, status, height_m, strftime(valid_from, '%H:%M:%S.%g') AS valid_from,
coalesce(strftime(valid_to, '%H:%M:%S.%g'), '-') AS valid_to FROM tree_history WHERE tree_id IN (17, 42) ORDER BY tree_id, from_position"""
ROLLUP = "SELECT ward_id, trees, round(mean_height, 2) AS mean_height, tallest FROM ward_trees ORDER BY ward_id"


def _shapes(folder: Path, shown: Callable[..., None]) -> None:
    """The second part: what else changes become."""
    say_part(
        "11. More than a copy",
        "The same changes can become a history of versions, measures of groups, messages to others, and an archive in "
        f"files. Four loads are added to {folder / 'plainstep.toml'}:",
    )
    with (folder / "plainstep.toml").open("a", encoding="utf-8") as config:
        config.write(town.SHAPES)
    click.echo(textwrap.indent(town.SHAPES.rstrip(), "  "))
    shown("step")
    say_part("12. Wednesday", "The last of tree 17, and of two others:")
    work_day(folder, town.WEDNESDAY)
    shown("step")
    say_part(
        "13. What became of it", "The history of trees 17 and 42, each version half-open, from one change to the next:"
    )
    show_rows(folder, HISTORY)
    click.echo("\nTrees by ward, kept up to date without reading the register again:")
    show_rows(folder, ROLLUP)
    click.echo("\nOne message, for the crew that fells condemned trees:")
    for file in sorted((folder / "messages").iterdir()):
        click.echo(textwrap.indent(textwrap.fill(file.read_text(encoding="utf-8").strip(), 98), "  "))
    click.echo("\nThe archive, by day:")
    for file in sorted((folder / "archive" / "tree").rglob("*.csv")):
        click.echo(f"  {file.relative_to(folder)}: {len(file.read_text(encoding='utf-8').splitlines()) - 1} changes")
    shown("check", "tree_history", "ward_trees")


def show_rows(folder: Path, query: str) -> None:
    """The rows of a query on the warehouse."""
    import duckdb

    from plainstep.cli import console as text

    with duckdb.connect(str(folder / "house.duckdb"), read_only=True) as connection:
        found = connection.execute(query)
        table = text.new_table(
            [name if kind == "VARCHAR" else f"{name}>" for name, kind, *_ in found.description or ()]
        )
        for row in found.fetchall():
            table.add_row(*map(str, row))
    text.show(table)


def say_part(title: str, text: str) -> None:
    """Say what the next part is about."""
    click.echo()
    click.echo(click.style(title, bold=True))
    click.echo(click.wrap_text(text, width=100))


def work_day(folder: Path, day: list[tuple[str, str]]) -> None:
    """Do a day's work in the register, and say what it is."""
    town.work(folder, day)
    for said, _ in day:
        if said:
            click.echo(f"  - {said}")
