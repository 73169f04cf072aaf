"""What tells the operation, and what its codes mean."""

from __future__ import annotations

from collections import Counter

from plainstep.core.layouts.inference.images import inside, place_of
from plainstep.core.layouts.inference.lives import by_lives
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import MEANINGS, OPERATION
from plainstep.deferred import np, pa, pc


def find_operation(rows: Sample, seen: Proposal) -> str:
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


def find_meanings(rows: Sample, seen: Proposal, operation: str, sides: tuple[str, str]) -> None:
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
        seen.confirm("operation", "its codes are in agreement with which values rows have")
    elif unknown:
        known = {code: meaning for code, (meaning, _, _) in meant.items()}
        told = by_lives(rows, texts, unknown, known, seen, sides)
        meant |= told
        if {*unknown} == {*told} and all(sure for _, _, sure in told.values()):
            seen.confirm("operation", "its codes are in agreement with the lives of rows")
    for meaning in MEANINGS:
        codes = [code for code, (said, _, _) in meant.items() if said == meaning]
        if codes:
            whys = {meant[code][1] for code in codes}
            seen.guesses.append(Guess(meaning, codes, "; ".join(sorted(whys)), all(meant[code][2] for code in codes)))


def _by_sides(rows: Sample, texts: list[str | None], code: str, sides: tuple[str, str]) -> tuple[str, str]:
    """By which of the two sides hold values in the rows with a code."""
    mask = np.array([text == code for text in texts])
    old, new = (any(bool((rows.there(path) & mask).any()) for path in inside(rows, ("", side))) for side in sides)
    if old and new:
        return "update", "its rows hold both sides"
    if new:
        return "insert", "its rows hold new values only"
    return ("delete", "its rows hold old values only") if old else ("truncate", "its rows hold no values")


def find_by_images(rows: Sample, seen: Proposal, sides: tuple[str, str]) -> None:
    """Where nothing else tells the operation: which images rows have, if some have one alone, and each has one."""
    old, new = (np.any([rows.there(path) for path in inside(rows, ("", side))], axis=0) for side in sides)
    if not (old | new).all() or not (old & ~new).any() or not (new & ~old).any() or seen.key is None:
        return
    was, now = (place_of(rows, side, seen.key.value[0]) for side in sides)
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
