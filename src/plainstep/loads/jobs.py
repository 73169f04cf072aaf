"""Stepping many loads, several at once: a load that reads what another one writes steps after it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextvars import copy_context
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.loads.load import reused
from plainstep.loads.outcome import StepOutcome
from plainstep.loads.step import step_together
from plainstep.stores.capabilities import HasFeed

if TYPE_CHECKING:
    from concurrent import futures

    from plainstep.loads.load import Load
else:
    [futures] = deferred("concurrent", "futures")

Outcomes = list[StepOutcome]


def stepped(groups: Sequence[Sequence[Load]], jobs: int, until_done: bool) -> Iterator[Outcomes]:
    """The outcomes of a step of each group of loads, in the order of the groups; as they are made, where there is one job.

    Args:
        groups: the loads, those that step together in one list.
        jobs: how many groups step at once. Into one embedded file, one at a time writes.
        until_done: whether those that leave changes to their next step go on until they leave none.
    """
    with reused([load for loads in groups for load in loads]):
        if jobs < 2 or len(groups) < 2:
            for loads in groups:
                yield from _steps(loads, until_done)
        else:
            yield from _stepped_at_once(groups, jobs, until_done)


def _stepped_at_once(groups: Sequence[Sequence[Load]], jobs: int, until_done: bool) -> Iterator[Outcomes]:
    made: list[futures.Future[list[Outcomes]]] = []
    with futures.ThreadPoolExecutor(jobs) as pool:
        for loads in groups:
            # What stands before in the queue has begun before: to wait for it is never to wait for ever.
            first = [future for other, future in zip(groups, made, strict=False) if _reads(loads, other)]
            made.append(pool.submit(copy_context().run, _after, first, loads, until_done))
        for future in made:
            yield from future.result()


def _after(first: list[futures.Future[list[Outcomes]]], loads: Sequence[Load], until_done: bool) -> list[Outcomes]:
    futures.wait(first)
    return list(_steps(loads, until_done))


def _steps(loads: Sequence[Load], until_done: bool) -> Iterator[Outcomes]:
    made = step_together(loads)
    yield made
    while until_done and any(one.more for one in made):
        made = step_together(loads)
        yield made


def _reads(loads: Sequence[Load], others: Sequence[Load]) -> bool:
    """Whether some loads read what others write: a table, or anything in a store of feeds, where patterns name what is read."""
    return any(
        load.old_values is other or other.old_values is load or _is_read(load, other)
        for load in loads
        for other in others
    )


def _is_read(load: Load, other: Load) -> bool:
    read = [(load.from_store, load.from_table), (load.rows_store, load.rows_table)]
    return any(
        store is not None
        and store.place == other.into_store.place
        and (isinstance(store, HasFeed) or table == other.into_table)
        for store, table in read
    )
