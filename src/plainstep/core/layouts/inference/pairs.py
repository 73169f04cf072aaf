"""The two rows of an update: what they share with no other row, where their order does not tell it."""

from __future__ import annotations

from plainstep.core.arrays import Ints
from plainstep.core.layouts.inference.images import inside, place_of
from plainstep.core.layouts.inference.lives import ENOUGH
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.pairing import paired
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.deferred import np, pa


def find_pairs(rows: Sample, seen: Proposal, operation: str, sides: tuple[str, str]) -> None:
    """What pairs the rows of updates that come as two, where an old one does not always stand right before its new one."""
    texts = rows.texts(operation)
    old, new = ({*map(str, seen.value(role) or ())} for role in ("update_was", "update_now"))
    if not old or not new:
        return
    olds, news = (np.array([row for row, text in enumerate(texts) if str(text) in codes]) for codes in (old, new))
    if not len(olds) or not len(news) or _in_order(rows, seen, sides, olds, news):
        return
    key = seen.key.value if seen.key else []
    taken = {operation, *key, *(seen.value("position") or ()), *(inside(rows, sides) if sides[1] != "*" else ())}
    for path in rows.fields:
        # A number for each pair: of texts, those of a few rows may differ by chance.
        if path in taken or not pa.types.is_integer(rows.fields[path]) or not rows.there(path)[[*olds, *news]].all():
            continue
        values = rows.texts(path)
        mine, theirs = [values[row] for row in olds], [values[row] for row in news]
        if len({*mine}) == len(mine) >= ENOUGH and sorted(map(str, mine)) == sorted(map(str, theirs)):
            others = {values[row] for row in range(rows.count) if row not in {*olds, *news}}
            sure = not others & {*mine}
            seen.guesses.append(Guess("pair", [path], f"{len(mine):,} of {len(mine):,} pairs share it", sure))
            seen.drop("transaction", path)
            seen.drop("bookkeeping", path)
            seen.add("bookkeeping", [path], "it pairs rows", sure)
            return
    why = "an old row does not always stand before its new one: name what the two share with no other row"
    seen.guesses.append(Guess("pair", [], why))
    seen.asked.append("pair")


def _in_order(rows: Sample, seen: Proposal, sides: tuple[str, str], old: Ints, new: Ints) -> bool:
    """Whether the rows of each update are found by their order and their key, within transactions where these are known."""
    if seen.key is None:
        return True
    paths = [place_of(rows, sides[1], name) for name in seen.key.value]
    if any(path not in rows.fields for path in paths):
        return True
    transaction = seen.value("transaction")
    group = rows.column(transaction) if transaction else None
    found = paired(old, new, [rows.column(path) for path in paths], group)
    return not len(found.lone_old) and not len(found.lone_new)
