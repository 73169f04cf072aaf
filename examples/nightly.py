"""A nightly job, as a scheduler calls it: step every load, say what went wrong, and what somebody must look at.

    python nightly.py plainstep.toml

It exits with 0 if nobody has to do anything, as ``plainstep status`` does; a scheduler tells somebody about the rest.
"""

from __future__ import annotations

import sys
from datetime import timedelta

import plainstep

LATE = timedelta(hours=6)


def nightly(config: str) -> int:
    """Step every load; the exit status."""
    project = plainstep.load_project(config)
    for outcome in project.step(raise_errors=False):
        if outcome.error is not None:  # one load that fails leaves the others alone
            print(f"{outcome.load}: {outcome.error}", file=sys.stderr)
        elif outcome.outcome == "stepped":
            print(f"{outcome.load}: {outcome.changes:,} changes merged, up to {outcome.upto}")

    worst = 0
    for status in project.status():
        late = status.lag_seconds is not None and status.lag_seconds > LATE.total_seconds()
        if status.exit_status or late:
            print(f"{status.load} is {status.health}: {status.reason} {status.remedy}", file=sys.stderr)
        worst = max(worst, status.exit_status, int(late))

    # A sample of the rows is compared each night; all of them is `plainstep check`.
    for check in project.check(scope=plainstep.Scope(sample=0.05), raise_errors=False):
        if not check.ok:
            print(f"{check.load} differs from its source. Run: plainstep check {check.load}", file=sys.stderr)
            worst = max(worst, 1)
    return worst


if __name__ == "__main__":
    sys.exit(nightly(*sys.argv[1:]))
