"""What is read of the rows of some files: which columns, of which types, and what orders them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from itertools import chain
from typing import TYPE_CHECKING, NamedTuple

from plainstep.copying import replace
from plainstep.core.arrays import Bools, Ints, flat
from plainstep.core.changes.batch import in_lots
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.rows import LINE, POSITION, WRONG, Raw
from plainstep.core.sizes import size_of
from plainstep.deferred import pa
from plainstep.errors import ConfigError, NoRows, Refused
from plainstep.formats.lines import Form, Rows
from plainstep.formats.prefetch import ahead, fetched
from plainstep.formats.reader import columns_of, read
from plainstep.formats.sniff import typed
from plainstep.properties import cached_property
from plainstep.sql.expressions import paths_in
from plainstep.stores.document_fields import kind_read, read_fields
from plainstep.stores.files.listing import File, line_labels, line_places
from plainstep.stores.files.merge_order import Order

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig

# Rows of a file that are looked at to learn what it holds.
SAMPLE = 1000
# No row is larger, whatever a layout says: Arrow counts the bytes of texts in 31 bits.
MOST = 1 << 30


def form_of(layout: LayoutConfig) -> Form:
    """What a layout says of the form of files."""
    form, csv = Form(min(size_of(layout.max_row), MOST)), layout.csv
    if not csv:
        return form
    return replace(
        form,
        separator=csv.separator,
        names=tuple(csv.header),
        nulls=tuple(csv.nulls),
        charset=csv.charset,
        is_csv=True,
    )


class Part(NamedTuple):
    """What is read of a file whose lines order its rows.

    Attributes:
        file: the file.
        start, lines: from which byte on, and how many lines lie before it.
        after, upto: the rows that are meant, by their lines: those after one and up to another; None for all.
    """

    file: File
    start: int
    lines: int
    after: int
    upto: int | None

    def kept(self, lines: Ints) -> Bools:
        """Which rows are meant, by their lines."""
        above = lines > self.after
        return above if self.upto is None else above & (lines <= self.upto)


class Shape:
    """What is read of the rows of some files.

    Args:
        place: the feed's name, for messages.
        layout: how its rows are read.
        files: tells which files there are.
    """

    def __init__(self, place: str, layout: LayoutConfig, files: Callable[[], list[File]]) -> None:
        self.place, self.layout, self.files = place, layout, files
        self._wanted: dict[str, pa.DataType] = {}

    @cached_property
    def _sampled(self) -> pa.Table:
        """Rows of the first and of the newest files, with the types that their texts seem to have."""
        files = self.files()
        texts: list[pa.Table] = []
        tables: list[pa.Table] = []
        for file in files if len(files) <= 4 else [*files[:2], *files[-2:]]:
            upto = file.size if file.kind.grows else None
            # One that is merged may be taken away meanwhile. Of one that is not, whoever reads it tells that.
            with suppress(FileNotFoundError):
                for rows in read(file.source, file.name, upto, few=True, kind=file.kind):
                    (texts if file.kind.format == "csv" else tables).append(rows.table.slice(0, SAMPLE))
                    break
        if texts:  # what those of one file seem to hold, those of another may not
            whole = pa.concat_tables(texts, promote_options="default")
            tables.append(whole if tables else typed(whole))
        if not tables:
            what = f"There are no rows in {self.place} yet" if files else f"There is no file {self.place} to read"
            raise NoRows(
                f"{what}.",
                "The columns of its rows are not known.",
                "Check the pattern, or run the command again when the first file is finished.",
            )
        try:
            return pa.concat_tables(tables, promote_options="permissive")
        except pa.ArrowTypeError:
            raise self._differ() from None

    def _differ(self) -> Refused:
        """What is told of files of which no one table can be made."""
        known: dict[str, tuple[str, pa.DataType]] = {}
        for file in self.files():
            for column in columns_of(file.source, file.name, file.kind):
                name, kind = known.get(column.name, (file.name, column.type))
                try:
                    both = _unified([pa.schema([(column.name, one)]) for one in (kind, column.type)]).field(0).type
                except pa.ArrowTypeError:
                    return Refused(
                        f"The column {column.name!r} of {self.place} is {kind} in {name}, and {column.type} in {file.name}.",
                        "No one column holds both.",
                        "Give each kind of file a load of its own, with a pattern that only its files match.",
                    )
                known[column.name] = (name if both == kind else file.name, both)
        raise AssertionError(f"the files of {self.place} do not differ")

    @property
    def is_typed(self) -> bool:
        """Whether columns have types of their own, which those of CSV have not."""
        return any(file.kind.format != "csv" for file in self.files())

    def sample(self) -> pa.Table:
        """Some rows, to learn from what they are made of."""
        return self._sampled.append_column(POSITION, pa.array([""] * self._sampled.num_rows, pa.string()))

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows."""
        fields = fields_of(self._sampled, (self.layout.now, self.layout.was))
        self._wanted = {
            path: kind or kind_read(path, self.layout, self._sampled, fields) for path, kind in kinds.items()
        }
        if self.order is not None:
            self._wanted |= dict(zip(self.order.paths, self.order.kinds, strict=True))
        self.__dict__.pop("_schema", None)

    @cached_property
    def _schema(self) -> pa.Schema:
        """The columns of all files, as they are read."""
        schemas = []
        for file in self.files():
            with suppress(FileNotFoundError):
                schemas.append(columns_of(file.source, file.name, file.kind))
        try:
            whole = _unified(schemas)
        except pa.ArrowTypeError:
            raise self._differ() from None
        heads = {path.split(".")[0] for path in self._wanted} | set(self._wanted)
        names = [name for name in whole.names if name in heads]
        if LINE in whole.names:
            names = [path for path in self._wanted if path not in whole.names] + names
            names += [LINE] if self.layout.missing_field != "null" else []
        order = self.order
        numbered = order is not None and len(order.kinds) == 1 and pa.types.is_integer(order.kinds[0])
        place = order.kinds[0] if order is not None and numbered else pa.string()
        return pa.schema(
            [(name, self._type(name, whole)) for name in names] + [(WRONG, pa.string()), (POSITION, place)]
        )

    def _type(self, name: str, whole: pa.Schema) -> pa.DataType:
        if name == LINE:
            return pa.string()
        # What comes as text, in JSON lines and CSV, is read as what it is wanted as.
        if name == self.layout.operation and LINE not in whole.names and pa.types.is_string(whole.field(name).type):
            return pa.dictionary(pa.int32(), pa.string())  # a few codes, over and over
        texts = name not in whole.names or pa.types.is_string(whole.field(name).type)
        return self._wanted[name] if texts and name in self._wanted else whole.field(name).type

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        return self._schema

    @cached_property
    def order(self) -> Order | None:
        """How positions in the rows are compared, or None where files and lines order them."""
        if not self.layout.position:
            return None
        # By the oldest rows: a newer one that holds something else is told, and changes nothing about the order.
        first = self._sampled.slice(0, 1)
        fields = fields_of(first, (self.layout.now, self.layout.was))
        for path in self.layout.position:
            if path not in fields:
                raise ConfigError(
                    f"The position names {path!r}, which the rows of {self.place} do not have.",
                    f"What they have: {', '.join(fields)}.",
                    "Fix 'position' in the layout.",
                )
        raw, hexed = Raw(self._sampled), {*self.layout.hexadecimal}
        kinds = {path: pa.string() if path in hexed else fields[path] for path in self.layout.position}
        for path in hexed - kinds.keys():
            raise ConfigError(
                f"The layout says that {path} is hexadecimal, and the position of {self.place} does not name it.",
                f"The position: {', '.join(kinds)}.",
                "Fix 'hexadecimal' in the layout.",
            )
        return Order.of(self.layout.position, {path: raw.typed(path, kind) for path, kind in kinds.items()}, hexed)

    def _as_written(self, file: File, start: int, lines: int) -> Iterator[Rows]:
        """The rows of a file as they stand there: of JSON, its lines."""
        upto = file.size if file.kind.grows else None
        return read(file.source, file.name, upto, start, lines, wanted=self._schema, kind=file.kind)

    def _fields(self, lines: pa.Table) -> pa.Table:
        return pa.table(read_fields(flat(lines[LINE]), self._wanted, self.layout))

    def rows(self, parts: Iterable[Part]) -> Iterator[pa.Table]:
        """The rows of some files with every column that some file has, and their positions; those of many small ones together.

        Where something else than lines orders them, it is the file and the line that stand in place of positions.

        Raises:
            Refused: a file lacks a column that the layout needs.
        """
        placed = fetched(in_lots(chain.from_iterable(map(self._placed, parts))))
        # What is left to be done is worth threads where lines of JSON are read, or positions are written.
        costly = self.order is None or any(file.kind.format == "json" for file in self.files())
        return ahead(placed, self._finished) if costly else map(self._finished, placed)

    def _placed(self, part: Part) -> Iterator[pa.Table]:
        for rows in self._as_written(part.file, part.start, part.lines):
            is_json = part.file.kind.format == "json"
            table = rows.table if is_json else self.whole(rows.table, part.file)
            table = table.append_column(POSITION, line_places(part.file.name, rows))
            keep = part.kept(rows.lines)
            yield table if keep.all() else table.filter(pa.array(keep))

    def _finished(self, table: pa.Table) -> pa.Table:
        """What ``_placed`` gives, with lines of JSON read, and with positions."""
        place = table[POSITION] if self.order is not None else line_labels(table[POSITION])
        if table.column_names == [LINE, POSITION]:
            return self._filled(self._fields(table)).append_column(POSITION, place)
        return table.set_column(table.schema.get_field_index(POSITION), POSITION, place)

    @cached_property
    def _needed(self) -> set[str]:
        """The columns without which rows would say something else."""
        layout = self.layout
        sql = {"skip": layout.skip, "operation_sql": layout.operation_sql}
        named = {path[0] for where, one in sql.items() if one for path in paths_in(one, where)}
        columns = (layout.operation, layout.transaction, layout.deleted, layout.sent_columns, layout.each)
        return named | {*layout.position, *layout.pair, *columns}

    def whole(self, table: pa.Table, file: File) -> pa.Table:
        """The rows with every column that some file has: null where this one lacks it.

        Raises:
            Refused: it lacks a column that the layout needs.
        """
        for name in self._schema.names:
            if name in self._needed and name not in {*table.column_names, POSITION}:
                raise Refused(
                    f"{file.name} has no column {name!r}, which the layout needs.",
                    f"Its columns: {', '.join(table.column_names)}.",
                    "Fix or remove the file, or fix the layout.",
                )
        return self._filled(table)

    def _filled(self, table: pa.Table) -> pa.Table:
        """The rows with every column but the position, those that are lacking as nulls."""
        there = {*table.column_names}
        columns = {
            field.name: table[field.name] if field.name in there else pa.nulls(table.num_rows, field.type)
            for field in self._schema
            if field.name != POSITION
        }
        return pa.table(columns)


def _unified(schemas: list[pa.Schema]) -> pa.Schema:
    return pa.unify_schemas(schemas, promote_options="permissive")
