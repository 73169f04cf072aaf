"""Values that are not written as what they are."""

from __future__ import annotations

import re

from plainstep.core.layouts.inference.images import inner
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import TYPE_NAMES

# Fewer letters than these may be base64 by chance.
LONG = 8


def find_encodings(rows: Sample, seen: Proposal, sides: tuple[str, str]) -> None:
    """Values in objects whose one field names the type, and texts that look like bytes."""
    found: dict[str, str] = {}
    patterns = [side for side in sides if side]
    for path in rows.fields:
        for pattern in patterns:
            begin, _, end = pattern.partition("*")
            if not (path.startswith(begin) and path.endswith(end)):
                continue
            name = inner(path, pattern)
            column, _, tag = name.rpartition(".")
            beside = [one for one in rows.fields if one.startswith(f"{pattern.replace('*', column)}.")]
            if column and tag.lower() in TYPE_NAMES and beside == [path]:
                found[column] = "tagged"
            elif _looks_like_base64(rows, path):
                found[name] = "base64"
    if found:
        tagged = [name for name, encoding in found.items() if encoding == "tagged"]
        why = "their values are objects whose one field names a type" if tagged else ""
        bytes_ = [name for name in found if name not in tagged]
        if bytes_:
            why += (
                f"{'; ' if why else ''}{', '.join(bytes_)} may be bytes in base64, or decimals in them (decimal_bytes)"
            )
        seen.guesses.append(Guess("encodings", found, why, not bytes_))


def _looks_like_base64(rows: Sample, path: str) -> bool:
    texts = [text for text in rows.texts(path) if text] if str(rows.fields[path]) == "string" else []
    return (
        bool(texts)
        and all(
            len(text) % 4 == 0 and len(text) >= LONG and re.fullmatch(r"[A-Za-z0-9+/]+={0,2}", text) for text in texts
        )
        and any(re.search(r"[A-Z]", text) and re.search(r"[=+/0-9]|[a-z][A-Z]|A{4}", text) for text in texts)
    )
