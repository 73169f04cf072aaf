"""What a rollup computes of every row: its group, and each measured expression; and the tables that keep it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from plainstep.core.shapes.base import TargetTable
from plainstep.core.shapes.measures import ROWS, VALUE, Measure, addable, sum_type
from plainstep.deferred import pa, pc
from plainstep.errors import ConfigError, DataError
from plainstep.properties import cached_property
from plainstep.sql.expressions import computed, typed
from plainstep.sql.literals import quoted


@dataclass(frozen=True)
class RollupInputs:
    """The groups and measures of a rollup.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        by: what makes a group: columns, each as SQL over the row.
        measures: the measures.
    """

    schema: pa.Schema
    key: tuple[str, ...]
    by: dict[str, str]
    measures: tuple[Measure, ...]

    def tables(self) -> list[TargetTable]:
        """The groups, and a table of counted values for each expression whose values must be counted."""
        return self._tables

    @cached_property
    def _tables(self) -> list[TargetTable]:
        measures = [pa.field(one.name, self._kind(one)) for one in self.measures]
        groups = [*self.by_columns, *measures, pa.field(ROWS, pa.int64()), *self._parts]
        names = [field.name for field in groups]
        doubled = {name for name in names if names.count(name) > 1}
        if doubled:
            raise ConfigError(
                f"Two columns of the rollup would be called {min(doubled)}.",
                f"Besides its measures it keeps {ROWS}, and what sums and averages are made of.",
                "Give the measure, or the group, another name.",
            )
        values = [
            TargetTable(
                suffix, pa.schema([*self.by_columns, (VALUE, self._types[of]), (ROWS, pa.int64())]), (*self.by, VALUE)
            )
            for of, suffix in self.counted.items()
        ]
        return [TargetTable("", pa.schema(groups), tuple(self.by)), *values]

    @cached_property
    def by_columns(self) -> pa.Schema:
        """What makes a group, with types."""
        return typed(self.by, plain(self.schema), "by")

    @cached_property
    def _types(self) -> dict[str, pa.DataType]:
        """What each measured expression gives."""
        found = {}
        for one in self.measures:
            if one.of and one.of not in found:
                kind = typed({one.name: one.of}, plain(self.schema), "measures").field(0).type
                if one.kind in ("sum", "avg") and not addable(kind):
                    raise ConfigError(f"measures.{one.name} adds {one.of}, which is {kind}: no number.")
                found[one.of] = kind
        return found

    def _kind(self, measure: Measure) -> pa.DataType:
        if measure.kind in ("rows", "count", "distinct"):
            return pa.int64()
        if measure.kind == "avg":
            return pa.float64()
        return sum_type(self._types[measure.of]) if measure.kind == "sum" else self._types[measure.of]

    @cached_property
    def _parts(self) -> list[pa.Field]:
        """The columns that measures are made of."""
        sums = [
            pa.field(f"{one.name}_sum", sum_type(self._types[one.of])) for one in self.measures if one.kind == "avg"
        ]
        return [
            *sums,
            *(pa.field(f"{one.name}_count", pa.int64()) for one in self.measures if one.kind in ("avg", "sum")),
        ]

    @cached_property
    def counted(self) -> dict[str, str]:
        """The expressions whose values are counted, each with the suffix of its table."""
        found: dict[str, str] = {}
        for one in self.measures:
            if one.kind in ("min", "max", "distinct"):
                found.setdefault(one.of, f"_{one.name}_values")
        return found

    @cached_property
    def _inputs(self) -> dict[str, str]:
        """What is computed of every row: its group, and each measured expression."""
        return self.by | {f"v{index}": of for index, of in enumerate(self._types)}

    def input_of(self, of: str) -> str:
        """The column of an expression among the inputs."""
        return f"v{list(self._types).index(of)}"

    def computed(self, parts: Sequence[tuple[pa.Table, int]]) -> pa.Table:
        """The inputs of some rows, in parts that come (1) or go (-1)."""
        rows = pa.concat_tables([part.select(self.schema.names).cast(plain(self.schema)) for part, _ in parts])
        found = computed(rows, self._inputs)
        for name, sql in self.by.items():
            if found[name].null_count:
                raise DataError(
                    f"A row belongs to no group: by.{name} = {sql!r} is null.",
                    "A group without a name could not be found again.",
                    f'Name it: by = {{ {name} = "coalesce({sql}, ...)" }}.',
                )
        self._refuse_infinite(found)
        signs = [pa.repeat(pa.scalar(sign, pa.int8()), part.num_rows) for part, sign in parts]
        return found.append_column("sign", pa.chunked_array(signs, pa.int8()))

    def _refuse_infinite(self, inputs: pa.Table) -> None:
        """Refuse to add what could not be taken away again.

        Raises:
            DataError: a number to be added is infinite, or none.
        """
        for one in self.measures:
            if one.kind not in ("sum", "avg") or not pa.types.is_floating(self._types[one.of]):
                continue
            if pc.any(pc.invert(pc.is_finite(inputs[self.input_of(one.of)]))).as_py():
                raise DataError(
                    f"measures.{one.name} adds {one.of}, which is infinite or not a number in some row.",
                    "Such a value cannot be subtracted again when its row leaves the group.",
                    f"Leave it out: {one.kind}(CASE WHEN isfinite({one.of}) THEN {one.of} END).",
                )

    def groups(self, table: str) -> str:
        """The columns that make a group, as SQL, of a table (with its dot)."""
        return ", ".join(table + quoted(name) for name in self.by)

    def value_counts(self, of: str) -> str:
        """How often values came, less how often they went, as SQL over the inputs."""
        names = f"{self.groups('')}, {self.input_of(of)}"
        return (
            f"SELECT {names} AS {VALUE}, sum(sign) AS {ROWS} FROM r WHERE {self.input_of(of)} IS NOT NULL "
            f"GROUP BY {names} HAVING sum(sign) <> 0"
        )


def plain(schema: pa.Schema) -> pa.Schema:
    """Columns without what a store says of them beside their types."""
    return pa.schema([(field.name, field.type) for field in schema])
