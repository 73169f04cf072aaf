"""How our own SQL is written for a database that SQLAlchemy knows, and how values are bound."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from sqlalchemy import TextClause, text
from sqlalchemy.engine.interfaces import Dialect as Engine

from plainstep.sql.parameters import replaced
from plainstep.stores.dialect import Dialect
from plainstep.stores.sql.traits import Traits


@dataclass(frozen=True)
class SqlDialect(Dialect):
    """The same as ``Dialect``, with names as SQLAlchemy writes them: in quotes where they need some."""

    named: Callable[[str], str] = field(default=str, compare=False)

    def quoted(self, name: str) -> str:
        """A name, whatever is in it."""
        return self.named(name)


def dialect_of(engine: Engine, traits: Traits) -> SqlDialect:
    """How our own SQL is written for a database."""
    return SqlDialect(
        parameter="?",
        quote=engine.identifier_preparer.initial_quote,
        backslashes=engine.name in ("mysql", "mariadb", "bigquery"),
        text=traits.own_text,
        key_text=traits.key_text,
        real=traits.real,
        limit=traits.limit,
        stripped=traits.stripped,
        if_absent=traits.if_absent,
        ignoring=("INSERT INTO", ""),  # by looking first: see ``SqlTarget`` here
        widening=traits.widening,
        named=partial(_quoted, engine),
    )


def _quoted(engine: Engine, name: str) -> str:
    """A name in quotes. Where names without quotes are in capitals, SQLAlchemy tells them in small letters, and takes them so."""
    prepare = engine.identifier_preparer
    told = str(engine.denormalize_name(name)) if engine.requires_name_normalize else name
    end = prepare.final_quote
    return prepare.initial_quote + told.replace(end, end * 2) + end


def statement(sql: str, parameters: Sequence[Any] = ()) -> tuple[TextClause, dict[str, Any]]:
    """A statement with ``?`` for values as SQLAlchemy takes it, with its values by name.

    Args:
        sql: the statement, as we write it.
        parameters: its values, in order.
    """
    values = {f"p{place}": value for place, value in enumerate(parameters)}
    parts = re.split(r"""('(?:[^']|'')*'|"(?:[^"]|"")*"|`(?:[^`]|``)*`)""", sql)
    numbers = iter(values)
    written = [
        part.replace(":", r"\:")
        if place % 2
        else re.sub(r"[?:]", lambda found: f":{next(numbers)}" if found[0] == "?" else r"\:", part)
        for place, part in enumerate(parts)
    ]
    return text("".join(written)), values


def asked(sql: str, backslashes: bool) -> TextClause:
    """A query with ``:name`` for values, as SQLAlchemy takes it."""
    return text(
        replaced(sql.strip().rstrip(";"), lambda name: f":{name}", lambda other: other.replace(":", r"\:"), backslashes)
    )
