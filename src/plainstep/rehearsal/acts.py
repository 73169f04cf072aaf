"""Generated statements of every kind, on a table and on those that hang together with it."""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plainstep.stores.capabilities import ScratchTable


@dataclass(frozen=True)
class Act:
    """What is done in one transaction; or, without statements, a step of the load.

    Attributes:
        statements: SQL.
        kept: whether it is committed.
    """

    statements: tuple[str, ...] = ()
    kept: bool = True

    def __str__(self) -> str:
        if not self.statements:
            return "-- a step"
        if len(self.statements) == 1 and self.kept:
            return self.statements[0] + ";"
        return "\n".join(["BEGIN;", *(f"{one};" for one in self.statements), "COMMIT;" if self.kept else "ROLLBACK;"])


# A step follows an act so often.
STEPS = 0.04
# Transactions of several statements, and of those the ones that are rolled back.
TOGETHER, ROLLED_BACK = 0.2, 0.25
# Statements on another table that hangs together with this one: a parent, a child, one that a trigger writes.
ELSEWHERE = 0.1


def generated(tables: Sequence[ScratchTable], count: int, seed: int) -> Iterator[Act]:
    """So many statements, and steps between them; the last one is a step.

    Args:
        tables: the table itself first.
        count: how many statements.
        seed: the same seed makes the same statements.
    """
    chance = random.Random(seed)
    made = 0
    while made < count:
        many = chance.randint(2, 4) if chance.random() < TOGETHER else 1
        statements = tuple(_statement(chance, _table(chance, tables)) for _ in range(many))
        yield Act(statements, many == 1 or chance.random() >= ROLLED_BACK)
        made += many
        if chance.random() < STEPS:
            yield Act()
    yield Act()


def _table(chance: random.Random, tables: Sequence[ScratchTable]) -> ScratchTable:
    return chance.choice(tables[1:]) if len(tables) > 1 and chance.random() < ELSEWHERE else tables[0]


def _statement(chance: random.Random, table: ScratchTable) -> str:
    kind = chance.choice(
        ("insert", "insert", "upsert", "update", "update", "update", "many", "move", "delete", "delete")
    )
    if kind in ("insert", "upsert"):
        values = {name: chance.choice(pool) for name, pool in table.pools.items()}
        form = (
            chance.choice(table.upserts)
            if kind == "upsert" and table.upserts
            else "INSERT INTO {table} ({columns}) VALUES ({values})"
        )
        sets = ", ".join(f"{name} = {value}" for name, value in values.items() if name not in table.key)
        return form.format(
            table=table.name,
            columns=", ".join(values),
            values=", ".join(values.values()),
            key=", ".join(table.key),
            sets=sets,
        )
    one = " AND ".join(f"{name} = {chance.choice(table.pools[name])}" for name in table.key if name in table.pools)
    if kind == "delete":
        return f"DELETE FROM {table.name} WHERE {one or 'true'}"
    free = [name for name in table.pools if name not in table.key] or list(table.pools)
    names = list(table.key) if kind == "move" else chance.sample(free, min(len(free), chance.randint(1, 3)))
    sets = ", ".join(f"{name} = {chance.choice(table.pools[name])}" for name in names if name in table.pools)
    if kind == "many":
        column = chance.choice(list(table.pools))
        return f"UPDATE {table.name} SET {sets} WHERE {column} = {chance.choice(table.pools[column])}"
    return f"UPDATE {table.name} SET {sets} WHERE {one or 'true'}"
