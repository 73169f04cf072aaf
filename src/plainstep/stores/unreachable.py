"""A server that is gone: when the network notices it, and the error, in the same words for all of them."""

from __future__ import annotations

import socket

from plainstep.errors import Unreachable

# Options of sockets by which the network itself notices that the other side is gone: seconds, seconds, times, milliseconds. Not every
# system has all of them.
NOTICED = {
    name: value
    for name, value in {"TCP_KEEPIDLE": 30, "TCP_KEEPINTVL": 10, "TCP_KEEPCNT": 3, "TCP_USER_TIMEOUT": 60_000}.items()
    if hasattr(socket, name)
}


def no_answer(place: str, error: object) -> Unreachable:
    """The error for a server that gives no answer.

    Args:
        place: the store's name, with its URL where that is short.
        error: what went wrong.
    """
    told = str(error) or ("it took too long" if isinstance(error, TimeoutError) else type(error).__name__)
    return Unreachable(
        f"{place} gives no answer: {told}.",
        "Nothing was written.",
        "Check its URL, and that a server listens there; then run the command again.",
    )
