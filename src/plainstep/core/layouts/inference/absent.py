"""What it means that documents lack a field: that it is null, or that it was not sent."""

from __future__ import annotations

from plainstep.core.arrays import Bools
from plainstep.core.layouts.inference.images import place_of
from plainstep.core.layouts.inference.lives import ENOUGH
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.deferred import np, pa

SAY = "say null if what is not there is null, unsent if it was not sent and stays as it is"


def find_missing_field(rows: Sample, seen: Proposal, operation: str, sides: tuple[str, str]) -> None:
    """What it means that new values lack a field, where they come in documents."""
    was, now = sides
    if not rows.raw.documented(now.replace("*", "x")):
        return
    begin = now.partition("*")[0]
    each = str(seen.value("each") or "")
    paths = [path for path in rows.fields if path.startswith(begin) and path not in {operation, each}]
    masks = rows.raw.present({path: path for path in paths}, pa.array(range(rows.count)))
    lacking = _with_values(rows, seen, operation, list(masks.values())) & ~np.logical_and.reduce(list(masks.values()))
    count = int(lacking.sum())
    if not count:
        seen.guesses.append(Guess("missing_field", [], f"no row lacks a field; where one does, {SAY}"))
        return
    kept, emptied = _by_old_values(rows, seen, masks, lacking, (was, now)) if was else (0, 0)
    told = f"{count:,} rows lack a field"
    if kept >= ENOUGH and not emptied:
        why = f"{told}, and {kept:,} of {kept:,} old values after them are what was there before"
        seen.guesses.append(Guess("missing_field", "unsent", why, True))
    elif emptied >= ENOUGH and not kept:
        why = f"{told}, and {emptied:,} of {emptied:,} old values after them are null"
        seen.guesses.append(Guess("missing_field", "null", why, True))
    else:
        seen.guesses.append(Guess("missing_field", "unsent", f"{told}; {SAY}"))


def _with_values(rows: Sample, seen: Proposal, operation: str, masks: list[Bools]) -> Bools:
    """The rows that have new values: what is gone may lack what it wants."""
    found: Bools = np.logical_or.reduce(masks)
    gone = {str(code) for role in ("delete", "truncate", "update_was") for code in seen.value(role) or ()}
    if operation and gone:
        found = found & np.array([str(text) not in gone for text in rows.texts(operation)])
    return found


def _by_old_values(
    rows: Sample, seen: Proposal, masks: dict[str, Bools], lacking: Bools, sides: tuple[str, str]
) -> tuple[int, int]:
    """How often the next old value of a field that was lacking is what was there before, and how often it is null instead."""
    if seen.key is None:
        return 0, 0
    was, now = sides
    before, after = (place_of(rows, side, seen.key.value[0]) for side in sides)
    if before not in rows.fields or after not in rows.fields:
        return 0, 0
    following = _following(rows.texts(before), rows.texts(after))
    begin, _, end = now.partition("*")
    kept = emptied = 0
    for path, there in masks.items():
        old = was.replace("*", path[len(begin) : len(path) - len(end)])
        if old not in rows.fields:
            continue
        values = rows.texts(old)
        for row in np.flatnonzero(lacking & ~there).tolist():
            late = following[row]
            if late is None or values[row] is None:
                continue
            kept += values[late] == values[row]
            emptied += values[late] is None
    return kept, emptied


def _following(old_keys: list[str | None], new_keys: list[str | None]) -> list[int | None]:
    """For each row the next one that has its key among its old values."""
    found: list[int | None] = [None] * len(new_keys)
    newest: dict[str | None, int] = {}
    for row in reversed(range(len(new_keys))):
        found[row] = newest.get(new_keys[row])
        newest[old_keys[row]] = row
    return found
