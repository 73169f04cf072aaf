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


def parsed(text: str) -> Any:
    """What a document holds, with numbers as they are written.

    Raises:
        ValueError: it is not JSON, or nested beyond reason.
    """
    if is_deep(text):
        raise ValueError("it is nested too deeply")
    return json.loads(text, parse_float=Written, parse_int=Written)


def written(value: Any) -> str:
    """A value as JSON in which numbers are as they were written."""
    if isinstance(value, Written):
        return str(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{written(name)}: {written(inner)}" for name, inner in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(written, value)) + "]"
    return json.dumps(value, ensure_ascii=False)
