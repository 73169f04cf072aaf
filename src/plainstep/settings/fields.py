"""What settings are made of: one name or several, codes, lengths of time."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator, WithJsonSchema

from plainstep.core.durations import duration


def length_of_time(value: str) -> str:
    """The text, if it is a length of time.

    Raises:
        ValueError: it is not.
    """
    if duration(value) is None:
        raise ValueError("it is not a length of time: write 30s, 5min, 72h or 7d")
    return value


# A code as TOML writes it.
Code = str | int | bool


def as_list(value: Any) -> Any:
    """One name where several may stand."""
    return [value] if isinstance(value, str) else value


def _as_codes(value: Any) -> Any:
    """One code where several may stand."""
    return [value] if isinstance(value, str | int | bool) else value


def _one_or_more(item: list[dict[str, str]]) -> WithJsonSchema:
    """How a schema says that one may stand for a list of one."""
    one = item[0] if len(item) == 1 else {"anyOf": item}
    return WithJsonSchema({"anyOf": [one, {"type": "array", "items": one}]})


TEXT, NUMBER, YES_OR_NO = {"type": "string"}, {"type": "integer"}, {"type": "boolean"}
Names = Annotated[list[str], BeforeValidator(as_list), _one_or_more([TEXT])]
Codes = Annotated[list[Code], BeforeValidator(_as_codes), _one_or_more([TEXT, NUMBER, YES_OR_NO])]
