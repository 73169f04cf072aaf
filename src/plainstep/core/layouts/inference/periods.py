"""Tables whose rows are valid from one time to another."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

from plainstep.core.layouts.inference.lives import ENOUGH
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import FROM_WORDS, TO_WORDS, VALIDITY


def find_periods(rows: Sample, seen: Proposal, key: tuple[str, ...]) -> bool:
    """The two columns of a period, where rows of one key follow each other, if there are such."""
    for begin in rows.fields:
        for end in rows.fields:
            if not _named(begin, FROM_WORDS) or not _named(end, TO_WORDS) or rows.fields[begin] != rows.fields[end]:
                continue
            if not rows.there(begin).all():
                continue
            own = (
                list(key) or [path for path in rows.fields if path.endswith(("_id", "_key", "_no")) or path == "id"][:1]
            )
            if not own or any(path not in rows.fields for path in own):
                continue
            joined, after = _followed(rows, own, begin, end)
            if joined and not after:
                continue
            sure = joined >= ENOUGH and _named(begin, VALIDITY)  # stays in a room follow each other, too
            why = f"{joined:,} of {joined:,} periods end before the next one of their key begins, or where it begins"
            seen.guesses += [Guess("valid_from", begin, why, sure), Guess("valid_to", end, why, sure)]
            seen.key = Guess("key", own, "you said so" if key else "its name says so", bool(key))
            return True
    return False


def _named(path: str, words: tuple[str, ...]) -> bool:
    last = path.rpartition(".")[2].lower()
    return last in words or any(last.endswith(f"_{word}") or last.startswith(f"{word}_") for word in words)


def _followed(rows: Sample, key: list[str], begin: str, end: str) -> tuple[int, bool]:
    """How many periods have a next one of their key, and whether all of them end by then."""
    lives: dict[tuple[str | None, ...], list[tuple[Any, Any]]] = {}
    begins, ends = rows.column(begin).to_pylist(), rows.column(end).to_pylist()
    for row, one in enumerate(zip(*(rows.texts(path) for path in key), strict=True)):
        lives.setdefault(one, []).append((begins[row], ends[row]))
    joined = 0
    for life in lives.values():
        life.sort(key=lambda one: one[0])
        for (_, until), (since, _) in pairwise(life):
            if until is None or until > since:
                return joined + 1, False
            joined += 1
    return joined, True
