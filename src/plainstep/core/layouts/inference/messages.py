"""Messages of a feed: those that are about nothing, and those that are about several records."""

from __future__ import annotations

from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import HEARTBEATS, OPERATION
from plainstep.deferred import np, pa, pc


def without_heartbeats(rows: Sample, seen: Proposal) -> Sample:
    """The rows without messages that only say that the feed is alive; what tells them is proposed."""
    for path in rows.fields:
        if not pa.types.is_string(rows.fields[path]):
            continue
        texts = rows.texts(path)
        for word in sorted({text for text in texts if text and text.lower() in HEARTBEATS}):
            mask = np.array([text == word for text in texts])
            others = [one for one in rows.leaves() if one != path and (rows.there(one) & mask).any()]
            numbered = all(len(pc.unique(rows.column(one))) == rows.count for one in others)
            if numbered and not mask.all():
                quoted = word.replace("'", "''")
                why = f"{int(mask.sum()):,} rows with it hold nothing else"
                seen.guesses.append(Guess("skip", f"{_sql(path)} = '{quoted}'", why, True))
                if "." not in path:
                    seen.guesses.append(Guess("bookkeeping", [path], "it tells messages apart", True))
                return rows.only(~mask)
    return rows


def _sql(path: str) -> str:
    """A path as SQL names it."""
    return ".".join(part if part.isidentifier() else '"' + part.replace('"', '""') + '"' for part in path.split("."))


def find_records(rows: Sample, seen: Proposal, key: tuple[str, ...]) -> Sample:
    """The records of messages that hold a list of them; their list is proposed.

    A list of objects is one of records where nothing that could name a row stands beside it: else it may be a value of a row.
    """
    for path in rows.fields:
        records = rows.by_record(path)
        if records is None:
            continue
        beside = [one for one in rows.fields if one != path and not one.startswith(f"{path}.")]
        below = [one for one in records.fields if one.startswith(f"{path}.")]
        others = [one for one in beside if one not in rows.named(OPERATION, beside) and not _is_the_feeds(rows, one)]
        sure = bool(below) and not others
        why = f"each of {rows.count:,} messages has a list, and {records.count:,} records stand in them"
        seen.guesses.append(Guess("each", path, why, sure))
        if not below and len(key) == 1 and key[0] not in {one.rpartition(".")[2] for one in beside}:
            front, _, last = path.rpartition(".")
            level = [one.rpartition(".")[2] for one in rows.leaves() if one.rpartition(".")[0] == front and one != path]
            level = [one for one in level if one not in rows.named(OPERATION, level)]
            columns = {key[0]: last} | {one: one for one in level}
            seen.guesses.append(
                Guess("columns", columns, f"{last} holds values of {key[0]}; what stands beside it is of all of them")
            )
        return records
    return rows


def _is_the_feeds(rows: Sample, path: str) -> bool:
    """Whether a field belongs to the feed: it is empty, the same everywhere, or another in every message."""
    column = rows.column(path)
    return len(pc.unique(column)) in (1, rows.count)
