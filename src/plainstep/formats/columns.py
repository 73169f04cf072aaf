"""Rows whose columns are of other types in some of them, in columns that hold all."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from plainstep.core.arrays import flat
from plainstep.core.casting import as_text
from plainstep.deferred import pa, pc


def unified(schemas: Iterable[pa.Schema]) -> pa.Schema:
    """The columns of all of some rows: of a type that holds them, or texts, which are read as what they are wanted as row by row."""
    kinds: dict[str, pa.DataType] = {}
    for schema in schemas:
        for field in schema:
            kinds[field.name] = common(kinds[field.name], field.type) if field.name in kinds else field.type
    return pa.schema(list(kinds.items()))


def common(one: pa.DataType, other: pa.DataType) -> pa.DataType:
    """A type that holds what two do; members of structs by name."""
    if one == other or pa.types.is_null(other):
        return one
    if pa.types.is_null(one):
        return other
    if pa.types.is_struct(one) and pa.types.is_struct(other):
        return pa.struct(list(unified([pa.schema(list(one)), pa.schema(list(other))])))
    try:
        both = pa.unify_schemas([pa.schema([("v", one)]), pa.schema([("v", other)])], promote_options="permissive")
    except (pa.ArrowTypeError, pa.ArrowInvalid):
        return pa.string()
    return both.field(0).type


def together(tables: Sequence[pa.Table]) -> pa.Table:
    """Some rows after others, each with the columns of all: null where it lacks one."""
    schema = unified(table.schema for table in tables)
    return pa.concat_tables([in_columns(table, schema) for table in tables])


def in_columns(table: pa.Table, schema: pa.Schema) -> pa.Table:
    """Rows in some columns: null where they lack one.

    Raises:
        pa.ArrowException: a column cannot be made one of its type.
    """
    there = {*table.column_names}
    columns = [
        fitted(flat(table[field.name]), field.type) if field.name in there else pa.nulls(table.num_rows, field.type)
        for field in schema
    ]
    return pa.Table.from_arrays(columns, schema=schema) if columns else table.select([])


def fitted(column: pa.Array, kind: pa.DataType) -> pa.Array:
    """A column in a type; members that its structs lack are null."""
    if column.type == kind:
        return column
    if pa.types.is_string(kind):
        return as_text(column)
    if not (pa.types.is_struct(kind) and pa.types.is_struct(column.type)):
        return column.cast(kind)
    parts = []
    for field in kind:
        there = column.type.get_field_index(field.name) >= 0
        one = pc.struct_field(column, field.name) if there else pa.nulls(len(column), field.type)
        parts.append(fitted(one, field.type))
    return pa.StructArray.from_arrays(parts, fields=list(kind), mask=column.is_null())
