"""Doing again what a cut connection ended. Only for work that may be done twice."""

from __future__ import annotations

from collections.abc import Callable
from traceback import clear_frames
from typing import TypeVar

from plainstep.deferred import tenacity
from plainstep.errors import LostConnection, Unreachable

Found = TypeVar("Found")


def retried(work: Callable[[], Found], wait: float, lost: bool = False) -> Found:
    """Do something, and do it again if its connection is lost, for as long as ``wait`` seconds.

    A server that cannot be reached at the very first is not waited for, since its address may be wrong, unless it
    was there and was ``lost`` a moment ago.

    Raises:
        PlainStepError: what the last try ended with.
    """

    def tried() -> Found:
        try:
            return work()
        except (LostConnection, Unreachable) as error:
            let_go(error)  # before the next try, which may be waiting for the same files and locks
            raise

    try:
        return tried()
    except LostConnection:
        pass
    except Unreachable:
        if not lost:
            raise
    # At first at once, for most cuts are short; then once a second, so that a server that comes up is not stormed.
    again = tenacity.Retrying(
        retry=tenacity.retry_if_exception_type((LostConnection, Unreachable)),
        stop=tenacity.stop_after_delay(wait),
        wait=tenacity.wait_exponential(multiplier=0.05, max=1.0),
        reraise=True,
    )
    return again(tried)


def let_go(error: BaseException) -> None:
    """Let go of what was read half, and not only when nobody knows an error any more: it keeps files and locks."""
    one: BaseException | None = error
    while one is not None:
        clear_frames(one.__traceback__)
        one = one.__cause__ or one.__context__
