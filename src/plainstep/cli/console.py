"""How things are written in a terminal: plain aligned columns, one value in a line, times in local time with their zone."""

from __future__ import annotations

import json
import re
import shlex
import textwrap
from typing import TYPE_CHECKING, Any

import click

from plainstep.display import text as wording
from plainstep.display.text import shown

if TYPE_CHECKING:
    from rich.table import Table
    from rich.text import Text

DEFAULT_CONFIG = "plainstep.toml"
# Colours that people who see colours differently can tell apart; the word is always there too.
COLOURS = {"insert": "#0072B2", "update": "#E69F00", "delete": "#D55E00"}


def echo_json(data: Any) -> None:
    """Print data as JSON."""
    from plainstep.core.json_values import plain

    said = json.dumps(data, default=plain, ensure_ascii=False, indent=2)
    # JSON lets control characters of eight bits stand, and some terminals do what they say.
    click.echo(re.sub("[\x7f-\x9f]", lambda found: f"\\u{ord(found[0]):04x}", said))


def say(line: str = "", err: bool = False) -> None:
    """Print what people read. No name or value in it does anything to a terminal."""
    click.echo("\n".join(map(wording.printable, with_config(line).split("\n"))), err=err)


# A command of ours in a text, but not a file or a schema called plainstep.
COMMAND = re.compile(r"\bplainstep (?=[a-z]+\b)(?!-)")


def with_config(line: str) -> str:
    """A text whose commands name the file that ``-c`` named, so that they can be run as they stand."""
    context = click.get_current_context(silent=True)
    config = str(context.find_root().params.get("config", DEFAULT_CONFIG)) if context else DEFAULT_CONFIG
    return (
        line
        if config == DEFAULT_CONFIG
        else COMMAND.sub(f"plainstep -c {shlex.quote(config)} ".replace("\\", r"\\"), line)
    )


def what_changed(row: dict[str, Any], key: tuple[str, ...]) -> Text:
    """The values of a change; those of a row that is gone are dim."""
    from rich.text import Text

    return Text(wording.what_changed(row, key), style="dim" if row["op"] == "delete" else "")


def op(word: str) -> Text:
    """An operation as a coloured word."""
    from rich.text import Text

    return Text(word, style=COLOURS.get(word, ""))


def text(value: str) -> Text:
    """A text that is only text, whatever brackets it holds."""
    from rich.text import Text

    return Text(shown(value))


def key_heads(key: tuple[str, ...]) -> list[str]:
    """The heads of a key's columns."""
    return [f"{name}>" for name in key]


def key_cells(row: dict[str, Any]) -> list[Text]:
    """The values of a row's key."""
    return [text("" if value is None else str(value)) for value in row["key"].values()]


def new_table(heads: list[str]) -> Table:
    """A table without boxes. A head that ends in ``>`` is a number's, aligned right."""
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for head in heads:
        number = head.endswith(">")
        table.add_column(
            Text(wording.printable(head.removesuffix(">"))), justify="right" if number else "left", no_wrap=True
        )
    return table


def show(table: Table) -> None:
    """Print a table, however wide: nothing is cut, so that a pipe gets all of it."""
    from rich.console import Console

    if not table.row_count:
        return
    console = Console(highlight=False)
    width = console.measure(table, options=console.options.update(max_width=100_000)).maximum
    console.width = max(width, 1)
    with console.capture() as captured:
        console.print(table)
    for line in captured.get().splitlines():
        click.echo(line.rstrip())


def note(note: str) -> None:
    """What there is to say besides."""
    if note:
        for part in textwrap.wrap(f"Note: {note}.", 120, subsequent_indent="      ", break_long_words=False):
            click.echo(part)


def rest(more: int, page: int = 0) -> None:
    """How many rows there are that are not shown, and how to see them."""
    if more > 0:
        following = f", --page {page} the next ones" if page else ""
        say(f"... and {more:,} more; --all shows them{following}.")
