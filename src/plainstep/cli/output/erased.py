"""What people see of where a row's values are kept."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.cli.console import new_table, say, show, text
from plainstep.display.text import shown

if TYPE_CHECKING:
    from plainstep.loads.erase import EraseResult


def places(found: EraseResult) -> None:
    """Every place, and what was done there or is left to do."""
    key = ", ".join(f"{name} {shown(value)}" for name, value in found.key.items())
    say(f"Values of {key}:")
    table = new_table(["where", "what", "rows>", "state", "to do"])
    for one in found.places:
        state = "not erased" if one.state == "yours" else one.state
        count = "" if one.count is None else f"{one.count:,}"
        table.add_row(text(one.place), text(one.what), count, "none" if one.count == 0 else state, text(one.hint))
    show(table)
    if not found.done:
        words = " ".join([found.load, *(str(value) for value in found.key.values())])
        say(f"Nothing was erased. plainstep erase {words} --yes erases what was found.")
