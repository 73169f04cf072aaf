"""SQL expressions over a row: checked before anything runs, and the same for one row at any time."""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Collection, Iterator, Mapping
from functools import cache, lru_cache
from typing import Any

from plainstep.deferred import duckdb, pa
from plainstep.errors import ConfigError, DataError
from plainstep.sql.engine import connection, evaluated
from plainstep.sql.literals import quoted

# Parts of an expression that would look at more than the row.
BEYOND_THE_ROW = {"SUBQUERY": "a query of its own", "WINDOW": "other rows", "STAR": "all columns"}


def checked(sql: str, columns: Collection[str], where: str) -> None:
    """Refuse what is not an expression over one row.

    Args:
        sql: the expression.
        columns: the names that it may use.
        where: where it is written, for messages.

    Raises:
        ConfigError: it is not SQL, names an unknown column, looks at more than the row, or changes by itself.
    """
    known = {name.lower() for name in columns}
    _refuse_growth(_parsed(sql, where), sql, where)
    for node in _nodes(_parsed(sql, where)):
        kind = node.get("class")
        if kind in BEYOND_THE_ROW:
            raise ConfigError(f"{where} = {sql!r} looks at more than the row: {BEYOND_THE_ROW[kind]}.")
        if kind == "FUNCTION":
            _refuse_function(str(node.get("function_name", "")), len(node.get("arguments", ())), sql, where)
        if kind == "COLUMN_REF" and node["column_names"][0].lower() not in known:
            name = node["column_names"][0]
            near = difflib.get_close_matches(name, list(columns), 1)
            raise ConfigError(
                f"{where} = {sql!r} names {name!r}, which is not a column here.",
                f"Did you mean {near[0]!r}?" if near else f"Columns: {', '.join(columns)}.",
                "Write text in single quotes: 'oak'.",
            )


def names_in(sql: str, where: str) -> set[str]:
    """The names that an expression begins with: columns, or tables where these have dots.

    Raises:
        ConfigError: it is not SQL.
    """
    nodes = _nodes(_parsed(sql, where))
    return {str(node["column_names"][0]).lower() for node in nodes if node.get("class") == "COLUMN_REF"}


def paths_in(sql: str, where: str) -> list[tuple[str, ...]]:
    """The names that an expression takes values by, with their dots, each once; not those of a lambda's own.

    Raises:
        ConfigError: it is not SQL.
    """
    nodes = _nodes(_parsed(sql, where))
    found = (tuple(map(str, node["column_names"])) for node in nodes if node.get("class") == "COLUMN_REF")
    return list(dict.fromkeys(found))


def fields_in(sql: str, where: str) -> dict[str, set[str]] | None:
    """The fields that an expression takes of each of its names, in lower case; None where that does not show.

    A name that is taken as a whole has the field "".

    Raises:
        ConfigError: it is not SQL.
    """
    found: dict[str, set[str]] = {}
    for node in _nodes(_parsed(sql, where)):
        if node.get("class") == "LAMBDA":
            return None
        if node.get("class") == "COLUMN_REF":
            names = [name.lower() for name in node["column_names"]]
            found.setdefault(names[0], set()).update(names[1:2] or ("",))
    return found


@lru_cache(1000)
def _parsed(sql: str, where: str) -> Any:
    """The expression, as a tree."""
    found = connection().execute("SELECT json_serialize_sql(?)", [f"SELECT {sql}"]).fetchall()
    tree = json.loads(found[0][0])
    if tree.get("error"):
        raise ConfigError(f"{where} = {sql!r} is not SQL: {tree.get('error_message', '')}.")
    [statement, *more] = tree["statements"]
    node = statement["node"]
    selected = node.get("select_list", ())
    plain = node.get("from_table", {}).get("type") == "EMPTY" and not node.get("where_clause")
    if more or len(selected) != 1 or not plain:
        raise ConfigError(f"{where} = {sql!r} is more than one expression.")
    return selected[0]


def _nodes(tree: Any, within_lambda: bool = False) -> Iterator[dict[str, Any]]:
    """Every part of an expression. Within a lambda, names are its own."""
    if isinstance(tree, dict):
        inside = within_lambda or tree.get("class") == "LAMBDA"
        if not (inside and tree.get("class") == "COLUMN_REF"):
            yield tree
        for part in tree.values():
            yield from _nodes(part, inside)
    elif isinstance(tree, list):
        for part in tree:
            yield from _nodes(part, within_lambda)


# Functions that make a value as large as a number says, each with the places of such numbers among its arguments. (The
# evaluator's limit on memory does not hold within them.)
GROWING = {
    "repeat": (1,), "lpad": (1,), "rpad": (1,), "list_resize": (1,), "array_resize": (1,), "bar": (3,), "range": (0, 1, 2),
    "generate_series": (0, 1, 2), "printf": (0,), "format": (0,),
}  # fmt: skip
# How large such numbers may be, multiplied with each other.
LARGEST = 1_000_000


def _refuse_growth(tree: Any, sql: str, where: str) -> None:
    """Refuse what may make a value of any size out of a row.

    Raises:
        ConfigError: it does.
    """
    size = 1
    for node in _nodes(tree):
        name = str(node.get("function_name", "")).lower() if node.get("class") == "FUNCTION" else ""
        for place in GROWING.get(name, ()):
            if place < len(node["arguments"]):
                size *= max(_number_in(node["arguments"][place]["expression"], name, sql, where), 1)
        if size > LARGEST:
            raise ConfigError(
                f"{where} = {sql!r} may make a value of more than {LARGEST:,} parts: {name}.",
                "One row could take all memory.",
                "Write a smaller number.",
            )


def _number_in(node: dict[str, Any], name: str, sql: str, where: str) -> int:
    """The largest number that a constant holds, be it a number or a text with numbers in it.

    Raises:
        ConfigError: it is not a constant.
    """
    if node.get("class") != "CONSTANT":
        raise ConfigError(
            f"{where} = {sql!r} could make a value of any size: {name}.",
            "One row could take all memory.",
            f"Write the size in {name} as a number.",
        )
    return max((int(digits) for digits in re.findall(r"\d+", str(node.get("literal", {}).get("text")))), default=0)


# Functions that must not stand in an expression, each with what is wrong with it. One that goes by the time zone gives the
# same for the same row: the evaluator's is always UTC. Which overloads there are depends on what the evaluator has loaded.
FORBIDDEN = """SELECT function_name, function_type FROM duckdb_functions() WHERE function_type = 'aggregate' OR (
    function_type = 'scalar' AND (stability = 'VOLATILE' OR (stability <> 'CONSISTENT'
    AND function_name NOT IN ('make_timestamptz', 'timezone') AND NOT contains(array_to_string(parameter_types, ' '), 'TIME'))))"""


@cache
def _functions() -> dict[str, str]:
    told = {"aggregate": "looks at many rows", "scalar": "does not give the same for the same row every time"}
    rows = dict.fromkeys(("unnest", "unlist"), "makes other rows of a row")
    return rows | {name: told[kind] for name, kind in connection().execute(FORBIDDEN).fetchall()}


def _refuse_function(name: str, arguments: int, sql: str, where: str) -> None:
    told = "counts from today" if (name, arguments) == ("age", 1) else _functions().get(name)
    if told:
        raise ConfigError(
            f"{where} = {sql!r} uses {name}, which {told}.",
            "The result must depend on the row alone.",
            "Use only what follows from the row itself.",
        )


def typed(expressions: Mapping[str, str], schema: pa.Schema, where: str) -> pa.Schema:
    """The types that expressions have over rows of some columns.

    Raises:
        ConfigError: one does not fit the columns' types.
    """
    plain = pa.schema([(field.name, field.type) for field in schema])
    return pa.schema(
        [(name, _type_of(sql, plain, f"{where}.{name}" if name else where)) for name, sql in expressions.items()]
    )


@lru_cache(1000)
def _type_of(sql: str, schema: pa.Schema, where: str) -> pa.DataType:
    """The type of one expression. It stays the same from step to step."""
    checked(sql, schema.names, where)
    # One row of nulls: a constant that does not convert to a column's type shows only where there is a row.
    blank = pa.table([pa.nulls(1, field.type) for field in schema], schema=schema)
    try:
        return evaluated(blank, f"({sql}) AS x").schema.field(0).type
    except _database_error() as error:
        raise ConfigError(f"{where} = {sql!r}: {_first_line(error)}.") from None


def computed(rows: pa.Table, expressions: Mapping[str, str]) -> pa.Table:
    """What expressions give for some rows, in their order.

    Raises:
        DataError: a value does not let itself be computed.
    """
    if not expressions:
        return rows.select([])
    select = ", ".join(f"({sql}) AS {quoted(name)}" for name, sql in expressions.items())
    try:
        return evaluated(rows, select)
    except _database_error() as error:
        told = "; ".join(f"{name} = {sql}" for name, sql in expressions.items())
        raise DataError(
            f"A row cannot be computed with: {_first_line(error)}.",
            f"The load says: {told}.",
            "Fix the value, or the expression (try_cast gives null for what cannot be converted).",
        ) from None


def _database_error() -> type[Exception]:
    return duckdb.Error


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0].rstrip(".!")
