"""What people see of what is captured, what is held of it, and what may go."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

from plainstep.cli.console import new_table, say, show, text
from plainstep.display.text import local, many, size

if TYPE_CHECKING:
    from plainstep.loads.retention import Trimmed
    from plainstep.stores.records import CaptureInfo


def trimmed(found: list[Trimmed]) -> None:
    """What was, or would be, forgotten, and who keeps the rest."""
    if not found:
        say("Nothing is captured there.")
        return
    done = any(one.done for one in found)
    table = new_table(["table", "held>", "forgotten>" if done else "would go>", "left>"])
    for one in found:
        numbers = (one.held, one.gone, one.held - one.gone)
        table.add_row(text(f"{one.store}.{one.table}"), *(f"{number:,}" for number in numbers))
    show(table)
    readers = new_table(["reader of", "reader", "merged up to>", "last merged", "waiting>", "since"])
    for one in found:
        for reader in one.readers:
            name, waiting = text(reader.name), f"{reader.waiting:,}"
            seen, since = local(reader.seen), local(reader.since)
            readers.add_row(text(f"{one.store}.{one.table}"), name, str(reader.position), seen, waiting, since)
    if readers.row_count:
        say()
        show(readers)
    for one in found:
        _told_of(one)
    if not done and any(one.gone for one in found):
        say("Nothing was forgotten yet. Add --yes to do it.")


def _told_of(one: Trimmed) -> None:
    """Why nothing can go, and who may never come back."""
    if one.reason:
        say(f"{one.store}.{one.table}: nothing can go: {one.reason}.")
    for reader in one.readers:
        if reader.fallen:
            say(
                f"{one.store}.{one.table}: {reader.name} seems to be gone, and keeps {many(reader.waiting, 'change')}. "
                f"If it will never come back: plainstep trim {one.store} --forget {shlex.quote(reader.name)}"
            )


def captures(found: list[tuple[str, CaptureInfo]]) -> None:
    """What is captured, a row a table."""
    if not found:
        say("Nothing is captured. plainstep capture on STORE.TABLE begins.")
        return
    table = new_table(["table", "key", "columns>", "since", "how", "held>", "after>", "head>", "state"])
    for store, one in found:
        state = "cannot be trusted" if one.problem else "columns missing" if one.waiting_columns else "on"
        table.add_row(
            text(f"{store}.{one.table}"),
            text(", ".join(one.key) or "none"),
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
            say(f"{store}.{one.table}: {one.problem}. {one.remedy}")
        elif one.waiting_columns:
            say(f"{store}.{one.table}: not captured yet: {', '.join(one.waiting_columns)}. {one.remedy}")
