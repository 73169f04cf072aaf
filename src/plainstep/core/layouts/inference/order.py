"""What orders rows, and when changes were made."""

from __future__ import annotations

from itertools import pairwise

from plainstep.core.hexadecimal import in_order, parts_in
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.rows import PARTITION
from plainstep.core.layouts.synonyms import ORDERING, TIMES
from plainstep.deferred import pa, pc


def find_position(rows: Sample, seen: Proposal, ordered: bool, taken: set[str]) -> list[str]:
    """What rises from row to row; if one column has ties, another one that breaks them."""
    numbers = [path for path in rows.fields if path not in taken and _holds_rising_numbers(rows, path)]
    if numbers:
        seen.guesses.append(
            Guess("position", numbers[:1], "its numbers rise with every row, and no two rows share them", True)
        )
        seen.guesses.append(
            Guess("hexadecimal", numbers[:1], "it holds hexadecimal numbers, and not always as many digits", True)
        )
        return numbers[:1]
    rising = [path for path in rows.fields if path not in taken and rises(rows.column(path))]
    strict = [path for path in rising if len(pc.unique(rows.column(path))) == rows.count]
    named = rows.named(ORDERING, strict) or [
        path for path in strict if not pa.types.is_string(rows.fields[path]) and not path.endswith("_id")
    ]
    if named and rows.count > 1:
        seen.guesses.append(Guess("position", [named[0]], "it rises with every row, and no two rows share it", True))
        return named[:1]
    by_partition = _in_partitions(rows, seen, ordered, taken)
    if by_partition:
        return by_partition
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
    if not chosen:
        seen.guesses.append(Guess("position", [], "nothing rises from row to row: name what orders them"))
        seen.asked.append("position")
        return []
    seen.guesses.append(Guess("position", chosen[:1], "it rises, but some rows share it"))
    return chosen[:1]


def _holds_rising_numbers(rows: Sample, path: str) -> bool:
    """Whether a column holds several hexadecimal numbers in each row, as 16/B374D848, which rise from row to row."""
    if not pa.types.is_string(rows.fields[path]) or rows.count < 2 or not rows.there(path).all():
        return False
    texts = rows.column(path)
    if len({len(text) for text in texts[:50].to_pylist()}) == 1 and rises(texts):
        return False  # of one length, they are in order as texts
    parts = parts_in(str(texts[0].as_py()))
    found = in_order(texts, parts) if parts > 1 else texts
    return (
        parts > 1
        and not found.null_count
        and not pc.any(pc.less_equal(found.slice(1), found.slice(0, len(found) - 1))).as_py()
    )


# A feed has at most so many partitions, and at least so many rows in each.
PARTITIONS, ROWS_EACH = 64, 3
# With fewer rows in each, they may be in order by chance.
SURELY_EACH = 8


def _in_partitions(rows: Sample, seen: Proposal, ordered: bool, taken: set[str]) -> list[str]:
    """A column that does not rise, but does within each value of another one: a feed in partitions."""
    ways = _ways(rows, ordered, taken)
    whole = [path for path in rows.fields if pa.types.is_integer(rows.fields[path]) and path not in taken]
    falling = [path for path in whole if not rises(rows.column(path)) and rows.there(path).all()]
    for position in rows.named(ORDERING, falling):
        values = rows.column(position).to_pylist()
        for path, parts in ways.items():
            lines: dict[str | None, list[int]] = {}
            for part, value in zip(parts, values, strict=True):
                lines.setdefault(part, []).append(value)
            few = 1 < len(lines) <= PARTITIONS and rows.count >= ROWS_EACH * len(lines)
            if path != position and few and all(one < two for line in lines.values() for one, two in pairwise(line)):
                why = f"within each of {len(lines)} of them {position} rises with every row, and not across them"
                sure = rows.count >= SURELY_EACH * len(lines)
                seen.guesses.append(Guess("partition", path, why, sure))
                seen.guesses.append(Guess("position", [position], "it rises within each partition", sure))
                return [position]
    return []


def _ways(rows: Sample, ordered: bool, taken: set[str]) -> dict[str, list[str | None]]:
    """What may tell partitions, with that of each row: the places of files, or a column that always holds something."""
    if ordered:
        known = PARTITION in rows.raw.rows.column_names
        return {"folder": rows.raw.rows[PARTITION].to_pylist()} if known else {}
    return {path: rows.texts(path) for path in rows.fields if path not in taken and rows.there(path).all()}


def rises(column: pa.Array) -> bool:
    """Whether values never fall from row to row."""
    kind = column.type
    comparable = (
        pa.types.is_integer(kind) or pa.types.is_timestamp(kind) or pa.types.is_string(kind) or pa.types.is_binary(kind)
    )
    if not comparable or column.null_count or len(column) < 2:
        return bool(comparable and not column.null_count)
    return not pc.any(pc.less(column.slice(1), column.slice(0, len(column) - 1))).as_py()


def find_time(rows: Sample, seen: Proposal, own: list[str]) -> None:
    """The column that tells when changes were made."""
    for path in rows.named(TIMES, own):
        kind = rows.fields[path]
        texts = [text for text in rows.texts(path)[:50] if text]
        looks = pa.types.is_timestamp(kind) or (
            pa.types.is_string(kind) and bool(texts) and all(text[:4].isdigit() and text[4:5] == "-" for text in texts)
        )
        inner = path.rpartition(".")[0]
        if looks and not (seen.value("now") or "*").startswith(f"{inner}." if inner else "\0"):
            seen.guesses.append(Guess("time", path, "it holds times", rises(rows.column(path))))
            return
