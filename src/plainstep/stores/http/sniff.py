"""How a feed's pages seem to be made, by what the first one holds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

# What fields are called that name the next page, by their last names; with the parameter that it is sent as, where the
# open protocol of document databases says so.
NEXT = {
    "last_seq": "since",
    "next": "",
    "next_cursor": "",
    "cursor": "",
    "next_page": "",
    "next_token": "",
    "continuation": "",
}
# Objects within each other in which lists are looked for.
DEEPEST = 3


def pages_of(body: Any) -> dict[str, Any]:
    """The setting ``pages`` of a layout; empty where a page is a list, and links name the next one."""
    fields = dict(_fields(body))
    lists = [path for path, value in fields.items() if isinstance(value, list)]
    if not lists:
        return {}
    following = next((path for name in NEXT for path in fields if path.rpartition(".")[2] == name), "")
    found: dict[str, Any] = {"items": max(lists, key=lambda path: len(fields[path])), "next": following}
    is_address = isinstance(fields.get(following), str) and "/" in fields[following]
    name = following.rpartition(".")[2]
    found["cursor"] = "" if is_address else NEXT.get(name) or name
    if found["cursor"] == "since":
        found["parameters"] = {"include_docs": "true"}
    return {setting: value for setting, value in found.items() if value}


def _fields(body: Any, above: str = "", depth: int = 0) -> Iterator[tuple[str, Any]]:
    """Lists and plain values, by path; what lists hold is not looked at."""
    if isinstance(body, dict) and depth < DEEPEST:
        for name, value in body.items():
            yield from _fields(value, f"{above}.{name}" if above else name, depth + 1)
    elif above:
        yield above, body
