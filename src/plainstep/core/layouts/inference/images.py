"""Where old and new values lie."""

from __future__ import annotations

from collections import Counter

from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import NEW_WORDS, OLD_WORDS


def find_sides(rows: Sample, seen: Proposal) -> tuple[str, str]:
    """Patterns of old and new values: two beginnings, or two endings, with the same rest."""
    found: dict[tuple[str, str], int] = {}
    names = list(rows.fields)
    for old, new in ((old, new) for old in OLD_WORDS for new in NEW_WORDS):
        for path in names:
            for was, now in _counterparts(path, old, new):
                if now.replace("*", inner(path, was)) in rows.fields:
                    found[was, now] = found.get((was, now), 0) + 1
    if found:
        (was, now), count = max(found.items(), key=lambda item: item[1])
        why = f"{count} columns stand on both sides"
        seen.guesses += [Guess("was", was, why, True), Guess("now", now, why, True)]
        return was, now
    for path in rows.named(NEW_WORDS, [path for path in names if "." in path]):
        pattern = path.rpartition(".")[0] + ".*"
        seen.guesses.append(Guess("now", pattern, "values lie below it"))
        return "", pattern
    below = [path.rpartition(".")[0] for path in names if "." in path]
    if below:
        pattern = Counter(below).most_common(1)[0][0] + ".*"
        seen.guesses.append(Guess("now", pattern, "most values lie below it"))
        return "", pattern
    return "", "*"


def inner(path: str, pattern: str) -> str:
    """What stands in a path where its pattern has the ``*``."""
    before, _, after = pattern.partition("*")
    return path[len(before) : len(path) - len(after)]


def _counterparts(path: str, old: str, new: str) -> list[tuple[str, str]]:
    """The two patterns by which a path that bears the old word would have a counterpart with the new one."""
    found = []
    for joint in ("_", ".", ""):
        for was, now in ((f"{old}{joint}*", f"{new}{joint}*"), (f"*{joint}{old}", f"*{joint}{new}")):
            before, _, after = was.partition("*")
            if joint and path.startswith(before) and path.endswith(after) and len(path) > len(was) - 1:
                found.append((was, now))
    parts = path.split(".")
    for depth, part in enumerate(parts[:-1]):
        if part == old and depth:
            front = ".".join(parts[:depth])
            found.append((f"{front}.{old}.*", f"{front}.{new}.*"))
    return found


def inside(rows: Sample, sides: tuple[str, str]) -> set[str]:
    """The paths that belong to old or new values."""
    patterns = [side for side in sides if side and side != "*"]
    return {
        path
        for path in rows.fields
        for pattern in patterns
        if path.startswith(pattern.partition("*")[0]) and path.endswith(pattern.partition("*")[2])
    }


def place_of(rows: Sample, side: str, column: str) -> str:
    """Where a column lies on one side: under its pattern, or once for both."""
    path = side.replace("*", column)
    return path if path in rows.fields else column
