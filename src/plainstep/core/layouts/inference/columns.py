"""Which columns are the row's own, and which of them is its key."""

from __future__ import annotations

import re
from typing import Any

from plainstep.core.arrays import Bools
from plainstep.core.casting import truthy
from plainstep.core.layouts.inference.images import inside
from plainstep.core.layouts.inference.order import rises
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import GONE, SENT, TRANSACTIONS
from plainstep.deferred import pa, pc


def find_deleted(rows: Sample, seen: Proposal, own: list[str]) -> None:
    """A column that says that the row is deleted."""
    if seen.value("operation") is None:
        for path in rows.named(GONE, own):
            texts = {(text or "").lower() for text in rows.texts(path)}
            said = texts - NO
            plain = said <= YES or pa.types.is_timestamp(rows.fields[path]) or all(_is_a_time(one) for one in said)
            why = (
                f"its name says so, and it holds {'yes and no' if said <= YES else 'times where rows are gone'}"
                if plain
                else "its name says so"
            )
            seen.guesses.append(Guess("deleted", path, why, plain and bool(said) and bool(texts & NO)))
            return


# What a column holds that says yes or no.
YES, NO = {"true", "1", "t", "y", "yes"}, {"", "false", "0", "f", "n", "no"}


def _is_a_time(text: str) -> bool:
    return text[:4].isdigit() and text[4:5] == "-"


def find_key(rows: Sample, seen: Proposal, sides: tuple[str, str], taken: set[Any], said: tuple[str, ...]) -> None:
    """The column that names rows: called so, and rather at the begin; unless somebody said which."""
    if said:
        seen.key = Guess("key", list(said), "you said so", True)
    if seen.key is not None:
        return
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


def _comes_again(rows: Sample, path: str, name: str) -> bool:
    column = rows.column(path if path in rows.fields else name).drop_null()
    return not pa.types.is_boolean(column.type) and 1 < len(pc.unique(column)) < len(column)


def find_sent(rows: Sample, seen: Proposal, own: list[str]) -> set[str]:
    """What tells which columns a row carries: one that lists them, or a yes or no for each."""
    for path in rows.named(SENT, own):
        kind = rows.fields[path]
        if pa.types.is_list(kind) or pa.types.is_string(kind):
            seen.guesses.append(_listing(rows, path, own))
            return {path}
    yes_or_no = [path for path in own if pa.types.is_boolean(rows.fields[path])]
    for path in yes_or_no:
        for other in own:
            if other != path and (path.startswith(other) or path.endswith(other)):
                pattern = path.replace(other, "*")
                fitting = {pattern.replace("*", one): one for one in own if pattern.replace("*", one) in yes_or_no}
                if len(fitting) > 1:
                    said = [(rows.there(one), _yes(rows, flag)) for flag, one in fitting.items()]
                    empty = all(not (there & ~sent).any() for there, sent in said)
                    why = f"{len(fitting)} columns say yes or no of others"
                    why += ", and where they say no, these are empty" if empty else ""
                    some = any((~sent).any() for _, sent in said)
                    seen.guesses.append(Guess("sent_columns", pattern, why, empty and some))
                    return {*fitting}
    return set()


def _yes(rows: Sample, path: str) -> Bools:
    return truthy(rows.column(path))


def _listing(rows: Sample, path: str, own: list[str]) -> Guess:
    """Whether a column lists columns: it names nothing else, and those that it does not name are empty."""
    names = {one.rpartition(".")[2]: one for one in own}
    texts = [re.findall(r"[^\s,;\[\]\"']+", text or "") for text in rows.texts(path)]
    told = {word for words in texts for word in words}
    strange, named = told - names.keys(), told & names.keys()
    full = sum(
        any(word not in words and rows.there(names[word])[row] for word in named)
        for row, words in enumerate(texts)
        if words
    )
    sure = not strange and not full and len(named) > 1
    return Guess(
        "sent_columns",
        path,
        "it lists columns, and those that it does not list are empty" if sure else "it seems to list columns",
        sure,
    )


def find_bookkeeping(rows: Sample, seen: Proposal, sides: tuple[str, str], own: list[str]) -> set[str]:
    """Columns that rise with the rows, and so are the feed's rather than the row's; one of them may be a transaction."""
    within = inside(rows, sides)
    rising = [
        path
        for path in own
        if path not in within
        and pa.types.is_integer(rows.fields[path])
        and len(pc.unique(rows.column(path))) > rows.count // 3
        and rises(rows.column(path))
        and not path.endswith("_id")
    ]
    for path in rows.named(TRANSACTIONS, rising)[:1]:
        # It decides nothing but which rows may be halves of one update, and each half must be found.
        seen.guesses.append(Guess("transaction", path, "its name says so, and it rises with the rows", True))
        rising.remove(path)
        within = within | {path}
    if rising and sides[1] == "*":
        seen.add("bookkeeping", rising, "they rise with the rows")
    elif sides[1] != "*":
        others = [path for path in own if path not in within and "." not in path and not path.endswith("_id")]
        aside = [path for path in others if path in rising]
        if aside:
            seen.add("bookkeeping", aside, "they rise with the rows, and stand beside both sides")
    return {*rising, *(seen.value("bookkeeping") or ()), seen.value("transaction")} - {None}


def find_lookup(rows: Sample, seen: Proposal, aside: set[Any]) -> None:
    """Where rows hold nothing but their key, their values must be looked up."""
    key = {*(seen.key.value if seen.key else ())}
    if not {*rows.fields} - aside - key and seen.value("operation") is None and not seen.value("each"):
        seen.guesses.append(Guess("lookup", True, "rows hold a key and no other values: name their table with rows"))
