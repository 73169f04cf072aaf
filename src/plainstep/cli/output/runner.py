"""What a run logs: a line a step."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.cli.console import say
from plainstep.cli.output.tables import said
from plainstep.display.text import local, span

if TYPE_CHECKING:
    from plainstep.loads.runner import Tick


def in_text(tick: Tick) -> None:
    """A step in a line; nothing where there was nothing to do."""
    one, now = tick.outcome, local(datetime.now(UTC))
    if one.error:
        told = " ".join(part for part in (one.error.what, one.error.next) if part)
        again = f"tried again in {span(tick.pause)}" + (f", failed {tick.failures} times" if tick.failures > 1 else "")
        say(f"{now}  {one.load}  {one.outcome}: {told} ({again})")
    elif one.entry or tick.recovered:
        say(f"{now}  {one.load}  {said(one)}")


def in_json(tick: Tick) -> None:
    """The same as a line of JSON."""
    from plainstep.core.json_values import plain

    if tick.outcome.error or tick.outcome.entry or tick.recovered:
        told = {"at": datetime.now(UTC), **tick.outcome.to_dict(), "failures": tick.failures, "pause": tick.pause}
        say(json.dumps(told, default=plain, ensure_ascii=False))
