"""What commands have in common: their options, the project that -c names, and how errors are told."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import datetime, timedelta
from functools import wraps
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click
from msgspec import Struct

from plainstep.cli.console import say, with_config
from plainstep.display.text import printable
from plainstep.errors import PlainStepError
from plainstep.formats import FORMATS

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.project import Project

Command = TypeVar("Command", bound=Callable[..., Any])

JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of text.")
AFTER = click.option(
    "--after",
    metavar="X",
    help="From here on, X itself excluded: a position, a time, 3h (ago), yesterday, start or head.",
)
UPTO = click.option(
    "--upto", metavar="Y", help="Up to here, Y itself included: a position, a time, 3h (ago), today, start or head."
)
LIMIT = click.option(
    "--limit", default=100, metavar="N", show_default=True, type=click.IntRange(min=0), help="How many rows to show."
)
HOW = click.option(
    "--how",
    type=click.Choice(["capture", "log"]),
    default="capture",
    show_default=True,
    help="By triggers into change tables, or by following the server's own log.",
)
PAGE = click.option(
    "--page",
    default=1,
    metavar="N",
    show_default=True,
    type=click.IntRange(min=1),
    help="Which page of that many rows to show.",
)
FORMAT = click.option(
    "--format",
    "form",
    type=click.Choice(FORMATS),
    help="Write all of them as data instead, to stdout or to a file.",
)
OUT = click.option(
    "-o", "--out", metavar="FILE", type=click.Path(path_type=Path, dir_okay=False), help="The file to write."
)
ALL = click.option("--all", "every", is_flag=True, help="Show every row.")


def _loads(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """The loads whose names begin so, for shells that complete words."""
    from plainstep.errors import PlainStepError
    from plainstep.project_file import load_project

    config = ctx.find_root().params.get("config") or "plainstep.toml"
    try:
        return [name for name in load_project(config).loads if name.startswith(incomplete)]
    except PlainStepError:
        return []


LOAD = click.argument("load", shell_complete=_loads)
LOADS = click.argument("loads", metavar="[LOAD]...", nargs=-1, shell_complete=_loads)


class Asked(Struct, frozen=True):
    """What a person asked for of a window, by the options of ``of_a_window``."""

    after: str | None
    upto: str | None
    limit: int
    page: int
    every: bool
    form: str | None
    out: Path | None

    @property
    def room(self) -> int | None:
        """How many rows to show; None for all."""
        return None if self.every else self.limit

    @property
    def skip(self) -> int:
        """How many rows to leave out before them."""
        return 0 if self.every else (self.page - 1) * self.limit

    @property
    def data(self) -> str | None:
        """The format to write all of them in, as asked or as the file's name says; None to show some."""
        if self.form or self.out is None:
            return self.form
        suffix = self.out.suffix.removeprefix(".").lower()
        if suffix not in FORMATS:
            raise click.UsageError(f"{self.out} has no known ending: add --format {', '.join(FORMATS)}.")
        return suffix


def of_a_window(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of a command that shows rows of a window; it gets them as one ``asked``."""

    @wraps(command)
    def gathered(*args: Any, **options: Any) -> Any:
        asked = Asked(**{name: options.pop(name) for name in Asked.__struct_fields__})
        return command(*args, asked=asked, **options)

    found: Callable[..., Any] = gathered
    for option in (OUT, FORMAT, ALL, PAGE, LIMIT, UPTO, AFTER):
        found = option(found)
    return found


def of_some_changes(command: Command) -> Command:
    """The options of a command that chooses among changes."""
    options: list[Any] = [
        click.option("--where", default="", metavar="SQL", help="Only those for which this holds of was and now."),
        click.option("--txn", default="", metavar="ID", help="Only those of this transaction."),
        click.option("--changed", multiple=True, metavar="COLUMN", help="Only updates that changed this column."),
        click.option(
            "--key", multiple=True, metavar="VALUE", help="Only those of this key; once for each column of it."
        ),
        click.option(
            "--op", "ops", multiple=True, metavar="OPERATION", help="Only insert, update, delete or truncate."
        ),
    ]
    for option in options:
        command = option(command)
    return command


class Duration(click.ParamType[timedelta]):
    """A length of time, as in 30s, 5min, 72h or 7d."""

    name = "duration"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> timedelta:
        """Read what a person wrote."""
        from plainstep.core.durations import duration

        if isinstance(value, timedelta):
            return value
        found = duration(str(value))
        if found is None:
            self.fail(f"{value!r} is not a length of time: write 30s, 5min, 72h or 7d.", param, ctx)
        return found


def to_a_file(tables: Iterator[pa.Table], form: str, out: Path | None) -> None:
    """Write tables as data, and say on stderr what was written."""
    if out is None and form == "parquet" and sys.stdout.isatty():
        raise click.UsageError("Parquet cannot be shown in a terminal: name a file with -o FILE.")
    rows = 0
    first = next(tables)
    from plainstep.formats.writer import file_or, writer

    with file_or(out, sys.stdout.buffer) as stream, writer(form, stream, first.schema) as write:
        for table in chain([first], tables):
            write(table)
            rows += table.num_rows
    if out is not None:
        say(f"{out}: {rows:,} rows.", err=True)


def open_project(ctx: click.Context) -> Project:
    """The project that -c names."""
    from plainstep.project_file import load_project

    return load_project(ctx.obj, ahead=True)


def interrupted(ctx: click.Context, began: datetime) -> PlainStepError:
    """What a command that was interrupted had written by then: the ledgers tell."""
    written = list[str]()
    with suppress(PlainStepError):
        for load in open_project(ctx).loads.values():
            with suppress(PlainStepError):  # a target that cannot be read
                entries = load.target.ledger(load.name, 1)
                written += [f"{one.load} (step {one.step})" for one in entries if one.at and one.at >= began]
    told = f"Written before that: {', '.join(written)}." if written else "No step was written."
    return PlainStepError(
        f"Interrupted. {told}", "Each step is written whole or not at all.", "Run the command again to go on."
    )


def unexpected(error: Exception) -> PlainStepError:
    """What to say of an error that nobody raised on purpose."""
    return PlainStepError(
        f"Unexpected error: {type(error).__name__}: {error}",
        "This is a fault in Plain Step. Each step is written whole or not at all, so nothing is half done.",
        "Please report it with what plainstep --debug and the same command print (passwords are left out).",
    )


def complain(error: PlainStepError, load: str = "") -> None:
    """Print an error to stderr."""
    lines = (error.what, with_config(error.why), with_config(error.next))
    first, *rest = map(printable, filter(None, lines))
    named = f"{printable(load)}: " if load else ""
    click.echo(click.style(named, bold=True, fg="bright_red") + first, err=True)
    for line in rest:
        click.echo(f"  {line}", err=True)
