"""Made-up histories of a table: the same for the same seed."""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

Row = dict[str, Any]


@dataclass(frozen=True)
class Act:
    """What is done to one row.

    Attributes:
        was: the row before, or None for an insert.
        now: the row after, or None for a delete.
    """

    was: Row | None
    now: Row | None


def history(seed: int, rows: dict[Any, Row], length: int, values: Sequence[Row], keys: int = 8) -> list[Act]:
    """Some acts on a table whose key is ``k``: rows come, change, move to another key, go, and come back.

    Args:
        seed: what to draw from.
        rows: the table as it stands, by key; it is brought up to what it is after the acts.
        length: how many acts.
        values: what rows may hold beside their key; chosen from.
        keys: keys are whole numbers below this.
    """
    chance = random.Random(seed)
    acts: list[Act] = []
    while len(acts) < length:
        key, fresh = chance.randrange(keys), chance.choice(values)
        was = rows.get(key)
        move = chance.randrange(keys)
        if was is None:
            now: Row | None = {"k": key, **fresh}
        elif chance.random() < 0.3:
            now = None
        elif chance.random() < 0.2 and move not in rows:
            now = {**was, "k": move}
        else:
            now = {"k": key, **fresh}
        if was is not None:
            del rows[key]
        if now is not None:
            rows[now["k"]] = now
        acts.append(Act(was, now))
    return acts


def after_each(rows: dict[Any, Row], acts: Sequence[Act]) -> list[dict[Any, Row]]:
    """How a table stands after each of some acts, by key."""
    states, rows = [], dict(rows)
    for act in acts:
        if act.was is not None:
            del rows[act.was["k"]]
        if act.now is not None:
            rows[act.now["k"]] = act.now
        states.append(dict(rows))
    return states
