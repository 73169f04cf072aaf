"""Answers over HTTP, of which no more is read than fits: who answers decides how much it sends, and how it is packed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from httpx import Client


@dataclass(frozen=True)
class Answer:
    """An answer.

    Attributes:
        status: its status, as a number.
        reason: the same, in words.
        body: its bytes, unpacked; None if there are too many.
        next: the address of the next page, by its headers; or empty.
        pause: for how many seconds it asks to be left alone.
    """

    status: int
    reason: str
    body: bytes | None
    next: str
    pause: float


def asked(client: Client, address: str, parameters: dict[str, str], most: int) -> Answer:
    """Get what lies at an address, up to so many bytes. No redirection is followed.

    Raises:
        httpx.TransportError: nobody answers.
    """
    with client.stream("GET", address, params=parameters or None) as answer:
        body: bytes | None = b""
        parts, size = [], 0
        for part in answer.iter_bytes():
            size += len(part)
            if size > most:
                body = None
                break
            parts.append(part)
        told = answer.headers.get("retry-after", "")
        return Answer(
            answer.status_code,
            answer.reason_phrase,
            body if body is None else b"".join(parts),
            str(answer.links.get("next", {}).get("url", "")),
            float(told) if told.isdigit() else 0.0,
        )
