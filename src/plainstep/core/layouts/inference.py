"""Guessing a layout from some rows: what orders them, what tells the operation, where old and new values lie.

Nothing here is certain but what the rows show. Every guess says why it was made, so that a person can fix it.
"""

from __future__ import annotations

from collections import Counter
from itertools import pairwise
from typing import Any

from plainstep.core.casting import as_text
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.rows import POSITION, Raw
from plainstep.core.layouts.synonyms import (
    GONE,
    MEANINGS,
    NEW_WORDS,
    OLD_WORDS,
    OPERATION,
    ORDERING,
    SENT,
    TIMES,
    TRANSACTIONS,
)
from plainstep.deferred import np, pa, pc


class _Rows:
    """Some rows, and what they are made of."""

    def __init__(self, rows: pa.Table, fields: dict[str, pa.DataType]) -> None:
        self.fields = {path: kind for path, kind in fields.items() if path != POSITION}
        self.raw = Raw(rows)
        self.raw.read({path: kind for path, kind in self.fields.items() if self.raw.within(path)})
        self.count = len(self.raw)

    def column(self, path: str) -> pa.Array:
        return self.raw.typed(path, self.fields[path]) if self.raw.within(path) else self.raw.column(path)

    def texts(self, path: str) -> list[str | None]:
        found: list[str | None] = as_text(self.column(path)).to_pylist()
        return found

    def named(self, words: tuple[str, ...], paths: list[str]) -> list[str]:
        """The paths whose last name, or a part of it, is one of these words; the earlier the word, the earlier the path."""

        def rank(path: str) -> int:
            last = path.rpartition(".")[2].lower()
            parts = {last, *last.split("_")}
            return min((place for place, word in enumerate(words) if word in parts), default=len(words))

        return [path for path in sorted(paths, key=rank) if rank(path) < len(words)]


def guess(rows: pa.Table, fields: dict[str, pa.DataType], ordered: bool) -> Proposal:
    """Propose a layout.

    Args:
        rows: some rows, as they stand in their table or file.
        fields: what they are made of, by path.
        ordered: whether their order is a position of its own, as in files.
    """
    found, seen = _Rows(rows, fields), Proposal()
    operation = _operation(found, seen)
    sides = _sides(found, seen)
    position = _position(found, seen, ordered, {operation, *_inside(found, sides)})
    own = [path for path in found.fields if path not in {operation, *position}]
    _time(found, seen, own)
    _deleted(found, seen, own)
    sent = _sent(found, seen, own)
    aside = _bookkeeping(found, seen, sides, [path for path in own if path != seen.value("time")])
    _key(found, seen, sides, {operation, *position, *sent, *aside, seen.value("time"), seen.value("deleted")})
    if operation:
        _meanings(found, seen, operation, sides)
    elif "" not in sides and "*" not in sides:
        _by_images(found, seen, sides)
    return seen


def _operation(rows: _Rows, seen: Proposal) -> str:
    """The column with a few codes."""
    few = []
    for path, kind in rows.fields.items():
        if pa.types.is_string(kind) or pa.types.is_integer(kind) or pa.types.is_large_string(kind):
            column = rows.column(path)
            distinct = len(pc.unique(column))
            if column.null_count == 0 and 1 <= distinct <= 8 and (distinct < rows.count or rows.count < 4):
                few.append(path)
    known = {word for words in MEANINGS.values() for word in words}
    texts = {path: {str(text) for text in rows.texts(path)} for path in few}
    named, several = rows.named(OPERATION, few), [path for path in few if len(texts[path]) > 1]
    worded = [path for path in few if {text.lower() for text in texts[path]} <= known]
    # A column that always says the same tells nothing, unless both its name and its word are those of an operation.
    fitting = [path for path in named if path in worded]
    chosen = fitting or [path for path in several if path in worded] or [path for path in named if path in several]
    if not chosen:
        seen.few = {path: sorted(texts[path]) for path in several if len(texts[path]) < rows.count}
        return ""
    path = chosen[0]
    counts = Counter(str(text) for text in rows.texts(path))
    seen.codes = dict(counts.most_common())
    why = f"it holds {len(counts)} codes" if len(counts) > 1 else "its name and its only code say so"
    seen.guesses.append(Guess("operation", path, why, path in fitting and len(counts) > 1))
    return path


def _sides(rows: _Rows, seen: Proposal) -> tuple[str, str]:
    """Patterns of old and new values: two beginnings, or two endings, with the same rest."""
    found: dict[tuple[str, str], int] = {}
    names = list(rows.fields)
    for old, new in ((old, new) for old in OLD_WORDS for new in NEW_WORDS):
        for path in names:
            for was, now in _counterparts(path, old, new):
                if now.replace("*", _inner(path, was)) in rows.fields:
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


def _inner(path: str, pattern: str) -> str:
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


def _inside(rows: _Rows, sides: tuple[str, str]) -> set[str]:
    """The paths that belong to old or new values."""
    patterns = [side for side in sides if side and side != "*"]
    return {
        path
        for path in rows.fields
        for pattern in patterns
        if path.startswith(pattern.partition("*")[0]) and path.endswith(pattern.partition("*")[2])
    }


def _position(rows: _Rows, seen: Proposal, ordered: bool, taken: set[str]) -> list[str]:
    """What rises from row to row; if one column has ties, another one that breaks them."""
    rising = [path for path in rows.fields if path not in taken and _rises(rows.column(path))]
    strict = [path for path in rising if len(pc.unique(rows.column(path))) == rows.count]
    named = rows.named(ORDERING, strict) or [
        path for path in strict if not pa.types.is_string(rows.fields[path]) and not path.endswith("_id")
    ]
    if named and rows.count > 1:
        seen.guesses.append(Guess("position", [named[0]], "it rises with every row, and no two rows share it", True))
        return named[:1]
    for first in rows.named(ORDERING, rising):
        for second in rows.named(ORDERING, [path for path in rows.fields if path not in taken and path != first]):
            pairs = list(zip(rows.texts(first), rows.texts(second), strict=True))
            if len(set(pairs)) == rows.count:
                seen.guesses.append(Guess("position", [first, second], "together, no two rows share them"))
                return [first, second]
    if ordered:
        seen.guesses.append(
            Guess("position", [], "nothing in the rows rises with every row: files and lines order them")
        )
        return []
    chosen = rows.named(ORDERING, rising) or rising
    if chosen:
        seen.guesses.append(Guess("position", chosen[:1], "it rises, but some rows share it"))
    return chosen[:1]


def _rises(column: pa.Array) -> bool:
    kind = column.type
    comparable = (
        pa.types.is_integer(kind) or pa.types.is_timestamp(kind) or pa.types.is_string(kind) or pa.types.is_binary(kind)
    )
    if not comparable or column.null_count or len(column) < 2:
        return bool(comparable and not column.null_count)
    return not pc.any(pc.less(column.slice(1), column.slice(0, len(column) - 1))).as_py()


def _time(rows: _Rows, seen: Proposal, own: list[str]) -> None:
    for path in rows.named(TIMES, own):
        kind = rows.fields[path]
        texts = [text for text in rows.texts(path)[:50] if text]
        looks = pa.types.is_timestamp(kind) or (
            pa.types.is_string(kind) and bool(texts) and all(text[:4].isdigit() and text[4:5] == "-" for text in texts)
        )
        inner = path.rpartition(".")[0]
        if looks and not (seen.value("now") or "*").startswith(f"{inner}." if inner else "\0"):
            seen.guesses.append(Guess("time", path, "it holds times", _rises(rows.column(path))))
            return


def _deleted(rows: _Rows, seen: Proposal, own: list[str]) -> None:
    if seen.value("operation") is None:
        for path in rows.named(GONE, own):
            seen.guesses.append(Guess("deleted", path, "its name says so"))
            return


def _key(rows: _Rows, seen: Proposal, sides: tuple[str, str], taken: set[Any]) -> None:
    """The column that names rows: called so, and rather at the begin."""
    before, _, after = sides[1].partition("*")
    names = [
        path[len(before) : len(path) - len(after)]
        for path in rows.fields
        if path not in taken and path.startswith(before) and path.endswith(after)
    ]
    names += [path for path in rows.fields if path not in taken and "." not in path and sides[1] != "*"]
    named = [name for name in names if name == "id" or name.endswith(("_id", "_key", "_no", "_code"))]
    again = [name for name in names if _comes_again(rows, sides[1].replace("*", name), name)]
    chosen = named[:1] or again[:1] or names[:1]
    if chosen:
        why = "its name says so" if named else "it is the first column whose values come again" if again else ""
        seen.key = Guess("key", chosen, why or "it is the first column")


def _comes_again(rows: _Rows, path: str, name: str) -> bool:
    column = rows.column(path if path in rows.fields else name).drop_null()
    return not pa.types.is_boolean(column.type) and 1 < len(pc.unique(column)) < len(column)


def _meanings(rows: _Rows, seen: Proposal, operation: str, sides: tuple[str, str]) -> None:
    """What the codes mean: by their words, and where these say nothing, by what the rows with them hold."""
    meant: dict[str, tuple[str, str, bool]] = {}
    for code in seen.codes:
        for meaning, words in MEANINGS.items():
            if code.lower().strip() in words:
                # One truncate that is none would empty the target.
                meant[code] = (meaning, "its word says so", meaning != "truncate")
                break
    unknown = [code for code in seen.codes if code not in meant]
    texts = rows.texts(operation)
    if unknown and "" not in sides and "*" not in sides:
        for code in unknown:
            meant[code] = (*_by_sides(rows, texts, code, sides), True)
    elif unknown:
        for code, meaning in _by_turns(rows, texts, unknown, seen, sides).items():
            meant[code] = (meaning, "rows with it stand where such rows would", False)
    for meaning in MEANINGS:
        codes = [code for code, (said, _, _) in meant.items() if said == meaning]
        if codes:
            whys = {meant[code][1] for code in codes}
            seen.guesses.append(Guess(meaning, codes, "; ".join(sorted(whys)), all(meant[code][2] for code in codes)))


def _by_sides(rows: _Rows, texts: list[str | None], code: str, sides: tuple[str, str]) -> tuple[str, str]:
    """By which of the two sides hold values in the rows with a code."""
    mask = np.array([text == code for text in texts])
    old, new = (
        any(
            bool((rows.column(path).is_valid().to_numpy(zero_copy_only=False) & mask).any())
            for path in _inside(rows, ("", side))
        )
        for side in sides
    )
    if old and new:
        return "update", "its rows hold both sides"
    if new:
        return "insert", "its rows hold new values only"
    return ("delete", "its rows hold old values only") if old else ("truncate", "its rows hold no values")


def _by_images(rows: _Rows, seen: Proposal, sides: tuple[str, str]) -> None:
    """Where nothing else tells the operation: which images rows have, if some have one alone, and each has one."""
    old, new = (
        np.any(
            [rows.column(path).is_valid().to_numpy(zero_copy_only=False) for path in _inside(rows, ("", side))], axis=0
        )
        for side in sides
    )
    if not (old | new).all() or not (old & ~new).any() or not (new & ~old).any() or seen.key is None:
        return
    was, now = (_place(rows, side, seen.key.value[0]) for side in sides)
    lives = was in rows.fields and now in rows.fields
    there: set[str | None] = set()
    again = False
    if lives:
        for key, before, had, has in zip(rows.texts(now), rows.texts(was), old, new, strict=True):
            again |= bool(has and not had and key in there)
            there = (there - {before} if had else there) | ({key} if has else set())
    told = ("put", "come again while they are there") if again else ("insert", "never come while they are there")
    seen_so = f"; rows with new values alone {told[1]}" if lives else ""
    why = f"rows hold new values alone, old values alone, or both{seen_so}"
    seen.guesses.append(Guess("only_new", told[0], why, lives))


def _place(rows: _Rows, side: str, column: str) -> str:
    """Where a column lies on one side: under its pattern, or once for both."""
    path = side.replace("*", column)
    return path if path in rows.fields else column


def _by_turns(
    rows: _Rows, texts: list[str | None], unknown: list[str], seen: Proposal, sides: tuple[str, str]
) -> dict[str, str]:
    """By their turn in the life of a row: what comes first inserts, what comes last deletes, pairs stand side by side."""
    found: dict[str, str] = {}
    if seen.key is None:
        return found
    keys = rows.texts(_place(rows, sides[1], seen.key.value[0]))
    counts = Counter(texts)
    firsts: Counter[str | None] = Counter()
    lasts: Counter[str | None] = Counter()
    lives: dict[str | None, list[str | None]] = {}
    for text, key in zip(texts, keys, strict=True):
        lives.setdefault(key, []).append(text)
    for life in lives.values():
        firsts[life[0]] += 1
        lasts[life[-1]] += len(life) > 1
    # The two rows of an update: in the life of a row, the one is always followed by the other, and never comes first.
    pairs = Counter(pair for life in lives.values() for pair in pairwise(life) if pair[0] != pair[1])
    for (one, two), count in pairs.items():
        if one in unknown and two in unknown and not firsts[one] and count == counts[one] == counts[two] and count > 1:
            found |= {str(one): "update_was", str(two): "update_now"}
    left = [code for code in unknown if code not in found]
    if left:
        insert = max(left, key=lambda code: firsts[code] / counts[code])
        # What comes once more where it came last says what is there, and not that it was not.
        again = any(pair == (insert, insert) for life in lives.values() for pair in pairwise(life))
        found[insert] = "put" if again else "insert"
        rest = [code for code in left if code != insert]
        if rest:
            delete = max(rest, key=lambda code: lasts[code] / counts[code])
            found |= {code: "delete" if code == delete else "update" for code in rest}
    return found


def _sent(rows: _Rows, seen: Proposal, own: list[str]) -> set[str]:
    """What tells which columns a row carries: one that lists them, or a yes or no for each."""
    for path in rows.named(SENT, own):
        kind = rows.fields[path]
        if pa.types.is_list(kind) or pa.types.is_string(kind):
            seen.guesses.append(Guess("sent_columns", path, "it seems to list columns"))
            return {path}
    yes_or_no = [path for path in own if pa.types.is_boolean(rows.fields[path])]
    for path in yes_or_no:
        for other in own:
            if other != path and (path.startswith(other) or path.endswith(other)):
                pattern = path.replace(other, "*")
                fitting = {pattern.replace("*", one) for one in own} & set(yes_or_no)
                if len(fitting) > 1:
                    seen.guesses.append(
                        Guess("sent_columns", pattern, f"{len(fitting)} columns say yes or no of others")
                    )
                    return fitting
    return set()


def _bookkeeping(rows: _Rows, seen: Proposal, sides: tuple[str, str], own: list[str]) -> set[str]:
    """Columns that rise with the rows, and so are the feed's rather than the row's; one of them may be a transaction."""
    inside = _inside(rows, sides)
    rising = [
        path
        for path in own
        if path not in inside
        and pa.types.is_integer(rows.fields[path])
        and len(pc.unique(rows.column(path))) > rows.count // 3
        and _rises(rows.column(path))
        and not path.endswith("_id")
    ]
    for path in rows.named(TRANSACTIONS, rising)[:1]:
        seen.guesses.append(Guess("transaction", path, "its name says so, and it rises with the rows"))
        rising.remove(path)
        inside = inside | {path}
    if rising and sides[1] == "*":
        seen.guesses.append(Guess("bookkeeping", rising, "they rise with the rows"))
    elif sides[1] != "*":
        others = [path for path in own if path not in inside and "." not in path and not path.endswith("_id")]
        aside = [path for path in others if path in rising]
        if aside:
            seen.guesses.append(Guess("bookkeeping", aside, "they rise with the rows, and stand beside both sides"))
    return {*rising, seen.value("transaction")} - {None}
