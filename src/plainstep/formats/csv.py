"""CSV files: values in the types that are wanted, in blocks, several at a time."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator
from itertools import chain
from typing import Any

from plainstep.core.arrays import flat
from plainstep.core.casting import fitted, has_infinite, overflows, readable
from plainstep.deferred import np, pa, pacsv
from plainstep.formats import lines
from plainstep.formats.limits import refuse_columns
from plainstep.formats.lines import FIRST, NEAR, Kind, Rows, damaged, first_line, is_blank, whole_lines  # fmt: skip
from plainstep.formats.prefetch import ahead, fetched

Block = bytes | memoryview
QUOTE = ord('"')


def read_csv(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    """Values in the types that are wanted, or as texts. An empty value without quotes is a null."""
    blocks = whole_lines(stream, shown, FIRST if few else lines.BLOCK, kind.longest)
    if kind.compression:
        blocks = fetched(blocks)
    first = next(blocks, memoryview(b""))
    head, begin = header(first, shown, kind)
    line = 0 if kind.form.names else 1

    def parsed(block: Block) -> tuple[Block, pa.Table | _Odd | None]:
        if is_blank(block):
            return block, _empty(head, wanted)
        if _quotes_in(block) % 2:
            return block, None
        try:
            return block, _csv_block(block, head, kind, wanted)
        except _Odd as odd:
            return block, odd

    for found in _outside_quotes(ahead(chain([first[begin:]], blocks), parsed), parsed, shown, kind.longest):
        if isinstance(found, _Odd):  # only here is it known how many rows came before
            raise damaged(shown, found.told(line))
        if found.num_rows:
            yield Rows(found, np.arange(line + 1, line + 1 + found.num_rows))
            line += found.num_rows


def _outside_quotes(
    results: Iterator[tuple[Block, pa.Table | _Odd | None]],
    parsed: Callable[[Block], tuple[Block, pa.Table | _Odd | None]],
    shown: str,
    longest: int,
) -> Iterator[pa.Table | _Odd]:
    """What became of blocks; one that ends within quotes, of it together with those that follow, up to where they end.

    That quotes stand open is only known when all before is read. To wait for it would be to read on one core.
    """
    opened = b""
    for block, found in results:
        if opened:
            opened += block
            if len(opened) > longest:
                break
            _, found = parsed(opened)
        elif found is None:
            opened = bytes(block)
        if found is not None:
            opened = b""
            yield found
    if opened:
        raise damaged(shown, "a quote is opened and not closed")


def _empty(head: list[str], wanted: pa.Schema | None) -> pa.Table:
    """No row."""
    kinds = {name: pa.string() for name in head if wanted is None or name in wanted.names}
    return pa.schema(list(kinds.items())).empty_table()


class _Odd(ValueError):
    """A block of CSV that cannot be read: the row that is odd, or what Arrow says."""

    def __init__(self, row: Any, said: str) -> None:
        super().__init__(said)
        self.row = row

    def told(self, line: int) -> str:
        """What is wrong with it, after so many lines."""
        if self.row is None:
            return f"after line {line}: {self}"
        number, found, wanted = line + (self.row.number or 1), self.row.actual_columns, self.row.expected_columns
        return f"line {number} has {found} values, and the header {wanted}: {self.row.text[:200]!r}"


def _quotes_in(block: Block) -> int:
    """How many quotes there are, counted piece by piece in memory that is at hand."""
    every = np.frombuffer(block, dtype=np.uint8)
    return sum(int(np.count_nonzero(every[at : at + NEAR] == QUOTE)) for at in range(0, len(every), NEAR))


def _csv_block(block: Block, head: list[str], kind: Kind, wanted: pa.Schema | None) -> pa.Table:
    names = [name for name in head if wanted is None or name in wanted.names]
    texts = dict.fromkeys(head, pa.string())
    kinds = {name: wanted.field(name).type for name in names} if wanted is not None else {}
    try:
        found = _parsed(block, head, names, texts | {name: readable(one) for name, one in kinds.items()}, kind)
        return _as_wanted(found, kinds)
    except pa.ArrowInvalid:
        pass  # a value does not fit, or a line has too many: which one it is, is told below
    odd: list[Any] = []
    _refuse_no_text(block)

    def refuse(row: Any) -> str:
        odd.append(row)
        return "error"

    try:
        return _parsed(block, head, names, texts, kind, refuse)
    except pa.ArrowInvalid as error:
        raise _Odd(odd[0] if odd else None, str(error).splitlines()[0]) from None


def _refuse_no_text(block: Block) -> None:
    """Refuse bytes that are not text: of a row that is odd as well, Arrow could not tell."""
    try:
        bytes(block).decode()
    except UnicodeDecodeError as error:
        lines = bytes(block[: error.start]).count(b"\n")
        raise _Odd(None, f"{lines:,} lines further on, there is no text in UTF-8") from None


def _as_wanted(table: pa.Table, kinds: dict[str, pa.DataType]) -> pa.Table:
    """Columns that were read as texts in the types that are wanted; as texts, where some value does not fit."""
    for name, kind in kinds.items():
        column = flat(table[name])
        if overflows(column) or has_infinite(column):
            raise pa.ArrowInvalid("a number has too many digits")
        if readable(kind) != kind:
            column, bad = fitted(column, kind)
            table = table if len(bad) else table.set_column(table.schema.get_field_index(name), name, column)
    return table


def _parsed(
    block: Block,
    head: list[str],
    names: list[str],
    kinds: dict[str, pa.DataType],
    kind: Kind,
    refuse: Callable[[Any], str] | None = None,
) -> pa.Table:
    # As one piece: only then may line ends stand within quotes without being searched for.
    whole = pacsv.ReadOptions(column_names=head, use_threads=False, block_size=max(len(block), 1))
    return pacsv.read_csv(
        pa.BufferReader(block),
        whole,
        pacsv.ParseOptions(delimiter=kind.delimiter, invalid_row_handler=refuse),
        pacsv.ConvertOptions(
            column_types=kinds,
            include_columns=names,
            null_values=list(kind.form.nulls),
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
        ),
    )


def header(block: memoryview, shown: str, kind: Kind) -> tuple[list[str], int]:
    """The first line's names, and where it ends; or the names that a layout gives, where there is no header."""
    line, names = first_line(block), list(kind.form.names)
    try:
        first = line.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise damaged(shown, "line 1 is not text in UTF-8") from None
    try:
        head = next(csv.reader([first.rstrip("\r\n")], delimiter=kind.delimiter), [])
    except csv.Error as error:
        raise damaged(shown, f"line 1: {error}") from None
    if names and head == names:
        raise damaged(shown, "its first line is a header, and the layout (csv.header) says that it has none")
    if names:
        return names, 0
    refuse_columns(len(head), shown)
    if len(set(head)) != len(head):
        twice = next(name for name in head if head.count(name) > 1)
        raise damaged(shown, f"two columns are named {twice!r}")
    return head, len(line)
