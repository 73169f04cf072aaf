"""What a pace logs: a line a step."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.cli.console import say
from plainstep.cli.output.tables import said
from plainstep.display.text import local, span

if TYPE_CHECKING:
    from plainstep.loads.runner import Beat


def in_text(beat: Beat) -> None:
    """A step in a line; nothing where there was nothing to do."""
    one, now = beat.outcome, local(datetime.now(UTC))
    if one.error:
        told = " ".join(part for part in (one.error.what, one.error.next) if part)
        again = f"tried again in {span(beat.pause)}" + (f", failed {beat.failures} times" if beat.failures > 1 else "")
        say(f"{now}  {one.load}  {one.outcome}: {told} ({again})")
    elif one.entry or beat.recovered:
        say(f"{now}  {one.load}  {said(one)}")


def in_json(beat: Beat) -> None:
    """The same as a line of JSON."""
    from plainstep.core.json_values import plain
    from plainstep.export.json import outcome

    if beat.outcome.error or beat.outcome.entry or beat.recovered:
        told = {"at": datetime.now(UTC), **outcome(beat.outcome), "failures": beat.failures, "pause": beat.pause}
        say(json.dumps(told, default=plain, ensure_ascii=False))
