"""What codes mean by the lives of rows: what is there can be updated and deleted, what is not can be inserted."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise, product
from typing import Any

from plainstep.core.layouts.inference.images import place_of
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Proposal
from plainstep.deferred import np

# So many changes must contradict every other reading, before one is taken for sure.
ENOUGH = 3
# Each further code takes four times as long to try.
MOST_CODES = 4
ROLES = ("insert", "update", "delete", "put")

# What codes mean: their meaning, why, and whether the rows leave little doubt.
Meanings = dict[str, tuple[str, str, bool]]


def by_lives(
    rows: Sample,
    texts: list[str | None],
    unknown: list[str],
    known: dict[str, str],
    seen: Proposal,
    sides: tuple[str, str],
) -> Meanings:
    """What codes mean whose words say nothing.

    Args:
        rows: the rows.
        texts: their codes.
        unknown: the codes to be told.
        known: what the others mean.
        seen: what was found so far; the key among it.
        sides: where old and new values lie.
    """
    if seen.key is None:
        return {}
    path = place_of(rows, sides[1], seen.key.value[0])
    if path not in rows.fields:
        return {}
    keys = rows.texts(path)
    aside = {
        path,
        *(seen.value("position") or ()),
        *(seen.value("bookkeeping") or ()),
        seen.value("transaction"),
        seen.value("time"),
    }
    found = _halves(rows, texts, keys, unknown, aside)
    left = [code for code in unknown if code not in found]
    if not left:
        return found
    halves = {code: meaning for code, (meaning, _, _) in found.items()}
    return found | _told_apart(keys, texts, left, known | halves, _with_key_alone(rows, texts, left, path, seen))


def _halves(
    rows: Sample, texts: list[str | None], keys: list[str | None], unknown: list[str], aside: set[Any]
) -> Meanings:
    """The two rows of an update: the one never comes first in a life, and the other always follows it."""
    counts, firsts = Counter(texts), Counter[str | None]()
    lives: dict[str | None, list[int]] = {}
    for row, key in enumerate(keys):
        lives.setdefault(key, []).append(row)
    for life in lives.values():
        firsts[texts[life[0]]] += 1
    turns = [pair for life in lives.values() for pair in pairwise(life)]
    pairs = Counter((texts[one], texts[two]) for one, two in turns if texts[one] != texts[two])
    for (one, two), count in pairs.items():
        if one in unknown and two in unknown and not firsts[one] and count == counts[one] == counts[two] and count > 1:
            before = [pair for pair in turns if texts[pair[1]] == one]
            own = [rows.texts(path) for path in rows.fields if path not in aside]
            own = [column for column in own if column != texts]
            same = sum(all(column[early] == column[late] for column in own) for early, late in before)
            why = f"{same:,} of {len(before):,} rows with {one} repeat what the change before left"
            sure = same == len(before) >= ENOUGH
            return {str(one): ("update_was", why, sure), str(two): ("update_now", f"each follows one with {one}", sure)}
    return {}


def _with_key_alone(rows: Sample, texts: list[str | None], codes: list[str], key: str, seen: Proposal) -> set[str]:
    """The codes whose rows hold their key and no other value of the row."""
    aside = {key, seen.value("time"), *(seen.value("position") or ())}
    others = [path for path in rows.fields if path not in aside and rows.texts(path) != texts]
    found = set()
    for code in codes:
        mask = np.array([text == code for text in texts])
        if others and int(mask.sum()) >= ENOUGH and not any((rows.there(path) & mask).any() for path in others):
            found.add(code)
    return found


def _told_apart(
    keys: list[str | None], texts: list[str | None], codes: list[str], known: dict[str, str], bare: set[str]
) -> Meanings:
    """By trying each reading: the one in which every change is of a row that could have it."""
    if len(codes) > MOST_CODES:
        return {}
    last = _never_again(keys, texts)
    tried = []
    for roles in product(ROLES, repeat=len(codes)):
        said = dict(zip(codes, roles, strict=True))
        wrong, unseen = contradictions(keys, [(known | said).get(str(text), "put") for text in texts])
        strange = sum(role != "delete" for code, role in said.items() if code in bare)
        # Rows that never come again may be gone, or only finished: it decides between readings, and makes none of them sure.
        finished = sum(role != "delete" for code, role in said.items() if code in last)
        score = wrong + strange * ENOUGH + unseen
        tried.append(((wrong > 0, roles.count("put"), score, finished), wrong + unseen, said))
    (doubtful, puts, score, _), amiss, best = min(tried, key=lambda one: one[0])
    rivals = [one for one, _, said in tried if said is not best and one[1] <= puts]
    sure = not doubtful and amiss == 0 and all(one[2] >= score + ENOUGH for one in rivals)
    why = (
        f"read so, each of {len(keys):,} changes is of a row that could have it"
        if sure
        else "rows with it stand where such rows would"
    )
    return {code: (meaning, why, sure) for code, meaning in best.items()}


def _never_again(keys: list[str | None], texts: list[str | None]) -> set[str | None]:
    """The codes after which no row comes again, if after others some do."""
    newest: dict[str | None, str | None] = {}
    followed: set[str | None] = set()
    for key, text in zip(keys, texts, strict=True):
        followed |= {newest[key]} if key in newest else set()
        newest[key] = text
    return {*texts} - followed if followed else set()


def contradictions(keys: list[str | None], roles: list[str]) -> tuple[int, int]:
    """How many changes cannot be, or need explaining, were their roles these.

    Args:
        keys: of which row each change is.
        roles: what each did.

    Returns:
        Inserts of rows that are there and changes of rows that are gone; and changes of rows that were not seen before.
    """
    there: dict[str | None, bool] = {}
    wrong = unseen = 0
    for key, role in zip(keys, roles, strict=True):
        known = there.get(key)
        if known is None:
            unseen += role in ("update", "delete")
        else:
            wrong += (role == "insert" and known) or (role in ("update", "delete") and not known)
        there[key] = role != "delete"
    return wrong, unseen
