"""The two rows of an update: what they share with no other row, where their order does not tell it."""

from __future__ import annotations

from plainstep.core.layouts.inference.images import inside
from plainstep.core.layouts.inference.lives import ENOUGH
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal


def find_pairs(rows: Sample, seen: Proposal, operation: str, sides: tuple[str, str]) -> None:
    """What pairs the rows of updates that come as two, where an old one does not always stand right before its new one."""
    texts = rows.texts(operation)
    old, new = ({*map(str, seen.value(role) or ())} for role in ("update_was", "update_now"))
    if not old or not new:
        return
    olds, news = ([row for row, text in enumerate(texts) if str(text) in codes] for codes in (old, new))
    if len(olds) == len(news) and all(late == early + 1 for early, late in zip(olds, news, strict=True)):
        return
    key = seen.key.value if seen.key else []
    own = {operation, *key, *(inside(rows, sides) if sides[1] != "*" else ())}
    for path in rows.fields:
        if path in own or not rows.there(path)[[*olds, *news]].all():
            continue
        values = rows.texts(path)
        mine, theirs = [values[row] for row in olds], [values[row] for row in news]
        if len({*mine}) == len(mine) and sorted(map(str, mine)) == sorted(map(str, theirs)):
            others = {values[row] for row in range(rows.count) if row not in {*olds, *news}}
            sure = not others & {*mine} and len(mine) >= ENOUGH
            seen.guesses.append(Guess("pair", [path], f"{len(mine):,} of {len(mine):,} pairs share it", sure))
            seen.drop("bookkeeping", path)
            seen.drop("transaction", path)
            return
    seen.guesses.append(
        Guess("pair", [], "an old row does not always stand before its new one, and nothing tells which are one")
    )
