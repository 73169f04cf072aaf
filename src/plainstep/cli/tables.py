"""What a person sees: aligned plain tables, differences first, times in local time with their zone."""

from __future__ import annotations

import textwrap
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from rich.table import Table
    from rich.text import Text

    from plainstep.inspect import CheckResult, LoadStatus, LookResult, NetResult
    from plainstep.load import Load
    from plainstep.step import StepOutcome
    from plainstep.stores.records import CaptureInfo, LedgerEntry

# Colours that people who see colours differently can tell apart; the word is always there too.
COLOURS = {"insert": "#0072B2", "update": "#E69F00", "delete": "#D55E00"}
LONGEST_VALUE = 60


def outcomes(found: list[StepOutcome]) -> None:
    """What each step did, a line each."""
    widest = max((len(one.load) for one in found), default=0)
    for one in found:
        if not one.error:
            click.echo(f"{one.load:<{widest}}  {_said(one)}")
        for warning in one.warnings:
            click.echo(f"{one.load}: {warning}", err=True)


def _said(one: StepOutcome) -> str:
    if one.entry is None:
        return f"nothing to do: merged up to {one.upto}, and nothing is waiting"
    entry = one.entry
    done = ", ".join(f"{name} {number:,}" for name, number in one.edits.items() if number) or "no row touched"
    took = f"{one.seconds:.2f} s"
    if entry.kind == "snapshot":
        return f"first load: {many(entry.append, 'row')}, as they stood at {one.upto}; {took}"
    if entry.kind == "begin":
        return f"begun at {one.upto}: only what changes after this is merged; {took}"
    if entry.kind == "reload":
        return f"loaded again as of {one.upto}: {counts(one.net)} to mend; {done}; {took}"
    odd = f"; {many(entry.contradictions, 'contradiction')}" if entry.contradictions else ""
    note = f"; {entry.note}" if entry.note else ""
    return f"{many(entry.changes, 'change')} {_window(one.after, one.upto, entry.changes)} came to {counts(one.net)}; {done}{odd}{note}; {took}"


def counts(found: dict[str, int]) -> str:
    """How many of each, in words."""
    return ", ".join(f"{number:,} {word}" for word, number in found.items() if number) or "nothing"


def _window(after: int | str | None, upto: int | str | None, count: int) -> str:
    """Where changes lie. What was written before a position may be committed after it was read."""
    if after is None:
        return f"up to {upto}"
    return f"committed since {after}" if after == upto and count else f"after {after} up to {upto}"


def look(found: LookResult) -> None:
    """The changes of a window, the difference first."""
    from plainstep.cli.rows import changes

    click.echo(
        f"{found.load}: {many(found.total, 'change')} {_window(found.after, found.upto, found.total)}"
        + (f" ({counts(found.counts)})" if found.total else "")
    )
    _note(found.note)
    rows = changes(found)
    who = ["by"] if any(row.get("by") for row in rows) else []
    table = new_table(["position>", "time", *who, "op", *_key_heads(found.key), "what changed"])
    for row in rows:
        by = [text(row["by"] or "")] if who else []
        cells: list[Any] = [local(row["at"]), *by, op(row["op"]), *_key_cells(row), what_changed(row, found.key)]
        table.add_row(str(row["position"]), *cells)
    show(table)
    _rest(found.more)


def net(found: NetResult, limit: int | None) -> None:
    """The net changes of a window, and what a step would do."""
    from plainstep.cli.rows import nets

    net = found.net
    click.echo(
        f"{found.load}: {many(net.read, 'change')} {_window(found.after, found.upto, net.read)} come to "
        f"{many(len(net), 'net change')}" + (f" ({counts(found.counts)})" if len(net) else "")
    )
    done = " and ".join(f"{name} {number:,}" for name, number in found.edits.items() if number)
    click.echo(f"A step would {done} of the target's rows." if done else "A step would touch no row.")
    _note(found.note)
    if net.contradictions:
        click.echo(
            f"{many(net.contradictions, 'contradiction')}: changes that do not fit those before them; the last state counts."
        )
    rows = nets(net, limit)
    table = new_table(["op", *_key_heads(net.key), "changes>", "what changed"])
    for row in rows:
        table.add_row(op(row["op"]), *_key_cells(row), f"{row['count']:,}", what_changed(row, net.key))
    show(table)
    _rest(len(net) - len(rows))


def _note(note: str) -> None:
    if note:
        for part in textwrap.wrap(f"Note: {note}.", 120, subsequent_indent="      ", break_long_words=False):
            click.echo(part)


def _rest(more: int) -> None:
    if more > 0:
        click.echo(f"... and {more:,} more; --all shows them.")


def status(found: list[LoadStatus]) -> None:
    """Each load's standing, and what to do about it."""
    table = new_table(["load", "from", "into", "mark>", "head>", "waiting>", "lag>", "health", "last step"])
    for one in found:
        table.add_row(
            text(one.load),
            text(one.source),
            text(one.into),
            "-" if one.merged is None else text(str(one.merged)),
            "-" if one.head is None else text(str(one.head)),
            ("some" if one.health == "behind" else "-") if one.waiting is None else f"{one.waiting:,}",
            span(one.lag_seconds),
            one.health,
            local(one.last_step.at) if one.last_step else "-",
        )
    show(table)
    for one in found:
        if one.reason:
            click.echo(f"{one.load}: {one.reason.rstrip('.')}." + (f" {one.remedy}" if one.remedy else ""))
        if one.holds_back is not None:
            click.echo(f"{one.load}: the server keeps {size(one.holds_back)} of its log for this.")
        for warning in one.warnings:
            click.echo(f"{one.load}: {warning}")
        if one.untold:
            click.echo(f"{one.load}: its changes do not tell: {'; '.join(one.untold)}.")


def mark(one: LoadStatus) -> None:
    """A load's mark in a line."""
    if one.mark is None:
        click.echo(f"{one.load} has no mark: no step was made yet.")
        return
    when = f" ({local(one.mark.at)})" if one.mark.at else ""
    waiting = "" if one.waiting is None else f"; waiting: {many(one.waiting, 'change')}"
    click.echo(f"{one.load} is merged up to {one.merged}{when}{waiting}.")


def move(load: Load, to: str) -> None:
    """What moving a mark would mean."""
    from plainstep.core.positions import Window
    from plainstep.windows import resolve, shown

    place = resolve(load, load.source.span(), to)
    now = load.target.mark(load.name)
    if now is None:
        told = f"{load.name} has no mark yet; it would begin at {shown(load, place)}, without loading what is there."
    elif (place.position, place.token) == (now.position, now.token):
        told = f"{load.name} is merged up to {shown(load, place)} already."
    else:
        earlier, later = sorted((place, now.place), key=lambda one: (one.position, one.token))
        count = load.source.waiting(Window.between(earlier, later)).count
        changes = "the changes in between" if count is None else many(count, "change")
        would = "would be merged again" if place is earlier else "would never be merged"
        told = f"{load.name} is merged up to {shown(load, now.place)}; {changes} {would}."
    click.echo(told, err=True)
    if place.note:
        click.echo(f"Note: {place.note}.", err=True)


def ledger(entries: list[LedgerEntry]) -> None:
    """The steps, a row each."""
    heads = ["when", "load", "step>", "kind", "after>", "upto>", "changes>", "insert>", "update>", "delete>"]
    table = new_table([*heads, "put>", "drop>", "append>", "seconds>", "note"])
    for one in entries:
        table.add_row(
            local(one.at),
            text(one.load),
            str(one.step),
            one.kind,
            "-" if one.after is None else text(one.after_shown or str(one.after)),
            text(one.upto_shown or str(one.upto)),
            *(f"{number:,}" for number in (one.changes, one.inserts, one.updates, one.deletes)),
            *(f"{number:,}" for number in (one.put + one.patch, one.drop, one.append)),
            f"{one.seconds:.3f}",
            text(_noted(one)),
        )
    show(table)


def _noted(one: LedgerEntry) -> str:
    odd = many(one.contradictions, "contradiction") if one.contradictions else ""
    return "; ".join(part for part in (one.note, odd) if part)


def check(found: list[CheckResult]) -> None:
    """Both sides counted, and what differs."""
    table = new_table(
        [
            "load",
            "result",
            "source rows>",
            "target rows>",
            "missing>",
            "extra>",
            "different>",
            "waiting>",
            "as of>",
        ]
    )
    for one in found:
        table.add_row(
            text(one.load),
            "equal" if one.ok else "DIFFERENT",
            *(f"{number:,}" for number in (one.source_rows, one.target_rows, one.missing, one.extra, one.different)),
            f"{one.waiting:,}",
            text(str(one.position)),
        )
    show(table)
    for one in found:
        _differences(one)


def _differences(one: CheckResult) -> None:
    from plainstep.cli.rows import differences

    if one.ok:
        if one.extra:
            click.echo(f'{one.load}: the extra rows were deleted at the source; deletes = "ignore" leaves them.')
        return
    click.echo(f"\n{one.load} differs (target, then source):")
    rows = differences(one)
    table = new_table(["what", *_key_heads(one.differences.key), "values"])
    for row in rows:
        as_change = {"op": "update", "was": row["target"], "now": row["source"], "changed": row["columns"]}
        if row["what"] != "different":
            as_change["op"] = "insert" if row["what"] == "missing" else "delete"
        table.add_row(row["what"], *_key_cells(row), what_changed(as_change, one.differences.key))
    show(table)
    _rest(one.missing + one.extra + one.different - len(rows))
    click.echo(f"plainstep reload {one.load} merges the differences.")


def captures(found: list[tuple[str, CaptureInfo]]) -> None:
    """What is captured, a row a table."""
    if not found:
        click.echo("Nothing is captured. plainstep capture on STORE.TABLE begins.")
        return
    table = new_table(["table", "key", "columns>", "since", "how", "held>", "after>", "head>", "state"])
    for store, one in found:
        state = "cannot be trusted" if one.problem else "columns missing" if one.waiting_columns else "on"
        table.add_row(
            text(f"{store}.{one.table}"),
            text(", ".join(one.key)),
            str(len(one.columns)),
            local(one.since),
            one.how,
            f"{one.held:,}" if one.holds_back is None else size(one.holds_back),
            *(str(one.oldest), str(one.head)),
            state,
        )
    show(table)
    for store, one in found:
        if one.problem:
            click.echo(f"{store}.{one.table}: {one.problem}. {one.remedy}")
        elif one.waiting_columns:
            click.echo(f"{store}.{one.table}: not captured yet: {', '.join(one.waiting_columns)}. {one.remedy}")


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


def _key_heads(key: tuple[str, ...]) -> list[str]:
    return [f"{name}>" for name in key]


def _key_cells(row: dict[str, Any]) -> list[Text]:
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
