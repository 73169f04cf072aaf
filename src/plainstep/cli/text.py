"""How things are written in a terminal: plain aligned columns, one value in a line, times in local time with their zone."""

from __future__ import annotations

import json
import textwrap
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from rich.table import Table
    from rich.text import Text

# Colours that people who see colours differently can tell apart; the word is always there too.
COLOURS = {"insert": "#0072B2", "update": "#E69F00", "delete": "#D55E00"}
LONGEST_VALUE = 60


def echo_json(data: Any) -> None:
    """Print data as JSON."""
    from plainstep.forms import plain

    click.echo(json.dumps(data, default=plain, ensure_ascii=False, indent=2))


def what_changed(row: dict[str, Any], key: tuple[str, ...]) -> Text:
    """The values of a change: what an update changed, or the row that came or went."""
    from rich.text import Text

    cell = Text()
    if row["op"] == "update":
        was, now = row["was"], row["now"]
        parts = [
            f"{name} {shown(was[name])} -> {shown(now[name])}" if name in was else f"{name} -> {shown(now[name])}"
            for name in row["changed"]
        ]
        return cell.append("; ".join(parts) or "no value")
    image = (row["was"] if row["op"] == "delete" else row["now"]) or {}
    parts = [f"{name} {shown(value)}" for name, value in image.items() if name not in key and value is not None]
    return cell.append("; ".join(parts), style="dim" if row["op"] == "delete" else "")


def many(number: int, noun: str) -> str:
    """A number of things."""
    return f"{number:,} {noun}" + ("" if number == 1 else "s")


def size(number: int) -> str:
    """A number of bytes, in the largest unit that tells it."""
    for unit, name in ((1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")):
        if number >= unit:
            return f"{number / unit:.1f} {name}"
    return f"{number} bytes"


def printable(value: str) -> str:
    """A text without anything that would do something to a terminal."""
    return "".join(letter if letter.isprintable() else repr(letter)[1:-1] for letter in value)


def shown(value: Any) -> str:
    """A value in one line, safe for a terminal."""
    if value is None:
        return "null"
    if isinstance(value, bytes):
        told = f"{len(value):,} bytes" if len(value) > 16 else "0x" + value.hex()
    elif isinstance(value, datetime) and value.tzinfo:
        told = local(value)
    else:
        told = str(value)
    told = printable(told)
    return told if len(told) <= LONGEST_VALUE else told[: LONGEST_VALUE - 3] + "..."


def local(time: datetime | None) -> str:
    """A time in local time with its zone."""
    return "-" if time is None else time.astimezone().strftime("%Y-%m-%d %H:%M:%S %Z")


def span(seconds: float | None) -> str:
    """A length of time, in the largest unit that tells it."""
    if seconds is None:
        return "-"
    for size, unit in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {unit}"
    return f"{seconds:.0f} s"


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
        table.add_column(Text(head.removesuffix(">")), justify="right" if number else "left", no_wrap=True)
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


def counts(found: dict[str, int]) -> str:
    """How many of each, in words."""
    return ", ".join(f"{number:,} {word}" for word, number in found.items() if number) or "nothing"


def note(note: str) -> None:
    """What there is to say besides."""
    if note:
        for part in textwrap.wrap(f"Note: {note}.", 120, subsequent_indent="      ", break_long_words=False):
            click.echo(part)


def rest(more: int, page: int = 0) -> None:
    """How many rows there are that are not shown, and how to see them."""
    if more > 0:
        following = f", --page {page} the next ones" if page else ""
        click.echo(f"... and {more:,} more; --all shows them{following}.")
