"""JSON with numbers as they are written: none loses a digit."""

from __future__ import annotations

import json
import re
from typing import Any

# Objects and lists within each other, beyond which a document is none that anybody meant. (Python's own limit is another in
# every release, and takes what is not a document for one.)
DEEPEST = 500


def is_deep(text: str) -> bool:
    """Whether a document is nested beyond reason."""
    if text.count("[") + text.count("{") <= DEEPEST:
        return False
    depth = 0
    for part in re.findall(r'"(?:[^"\\]|\\.)*"|[\[{\]}]', text):
        depth += (part in "[{") - (part in "]}") if len(part) == 1 else 0
        if depth > DEEPEST:
            return True
    return False


class Written(str):
    """A number of a document, as it is written there."""


# Numbers that Python, or the evaluator, would write otherwise: exponents, many digits, zeros at the end of a fraction. What
# stands before and behind them keeps times and bytes in texts from looking like some: each costs a reading by itself.
INEXACT = r"(?:^|[:,\[\s])-?(?:[0-9.]+[eE]|(?:[0-9][.]?){16}|[0-9]+[.][0-9]+0(?:[,}\]\s]|$))"
_encoder = json.JSONEncoder(ensure_ascii=False)


class Doubtful(ValueError):
    """What is doubtful about a document, which Python's reader takes all the same."""


def parsed(text: str) -> Any:
    """What a document holds; numbers that Python would write otherwise, as they are written.

    Raises:
        Doubtful: it says two things at once, is nested beyond reason, or holds what is no number of JSON's.
        ValueError: it is not JSON.
    """
    if is_deep(text):
        raise Doubtful("it is nested too deeply")
    number = Written if re.search(INEXACT, text) else None
    return json.loads(text, object_pairs_hook=_unique, parse_constant=_refuse, parse_float=number, parse_int=number)


def _unique(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise Doubtful(f"it has the field {twice} twice")
    return found


def _refuse(constant: str) -> None:
    raise Doubtful(f"it holds {constant}, which no number of JSON's is")


def written(value: Any) -> str:
    """Such a value as JSON in which numbers are as they were written."""
    if isinstance(value, Written):
        return str(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{_encoder.encode(name)}: {written(inner)}" for name, inner in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(written, value)) + "]"
    return _encoder.encode(value)
