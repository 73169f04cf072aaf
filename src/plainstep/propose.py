"""Help in writing a layout: what a change table or some files look like, and a commented proposal."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from plainstep.config import LayoutConfig, LoadConfig
from plainstep.errors import PlainStepError

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.guess import Guess, Proposal
    from plainstep.stores.base import Store

# Rows that are looked at, and that are shown.
ROWS, SHOWN = 2000, 5
ROWS_HINT = '# rows = "STORE.TABLE"  # the table itself, if it can be read: for the first load, check and reload'


def proposed(place: str, store: Store, table: str, into: str, key: tuple[str, ...] = ()) -> str:
    """A commented load with a layout, as TOML.

    Args:
        place: ``STORE.TABLE``, or files, as a plainstep.toml names them.
        store, table: the two parts of it.
        into: the store to merge into.
        key: the columns that tell rows apart, if they are known.

    Raises:
        PlainStepError: there is nothing to look at.
    """
    from plainstep.core.guess import Guess, guess
    from plainstep.feeds.bind import fields_of

    rows = _sample(store, table)
    fields = fields_of(rows)
    found = guess(rows, fields, ordered=hasattr(store, "feed"))
    if key:
        found.key = Guess("key", list(key), "you said so", True)
    absent = _absent(rows, found)
    if absent:
        found.guesses.append(absent)
    name = _named(table)
    lines = [f"# {place}: looked at {rows.num_rows:,} rows", *_columns(rows, fields), *_codes(found)]
    lines += ["", f"[loads.{name}]", f"from = {toml(place)}", f"into = {toml(f'{into}.{name}')}"]
    if found.key:
        lines.append(_line(found.key))
    lines.append(ROWS_HINT)
    lines += ["", f"[loads.{name}.layout]"]
    lines += [_line(one) for one in found.guesses if one.value not in (None, [])]
    lines += [f"# {one.name}: {one.why}" for one in found.guesses if one.value == []]
    return "\n".join([*lines, *_trial(found, store, table, rows)]) + "\n"


def _sample(store: Store, table: str) -> pa.Table:
    import pyarrow as pa

    if hasattr(store, "feed"):
        rows: pa.Table = store.feed(table, LayoutConfig(), None).sample()
        return rows
    found = store.table(table, {})
    with found.reading() as reading:
        batches = list(reading.select(found.schema().names, {}, f"LIMIT {ROWS}"))
    if not batches:
        raise PlainStepError(f"{found.place} holds no rows yet.", "A layout is guessed from what stands in them.")
    return pa.Table.from_batches(batches)


def _columns(rows: pa.Table, fields: dict[str, pa.DataType]) -> list[str]:
    """Every column with its type and its first values."""
    from plainstep.core.raw import Raw
    from plainstep.core.values import as_text

    raw = Raw(rows.slice(0, 200))
    width = max(len(path) for path in fields)
    kinds = max(len(str(kind)) for kind in fields.values())
    lines = ["#"]
    for path, kind in fields.items():
        some = list(dict.fromkeys(text for text in as_text(raw.column(path)).to_pylist() if text is not None))
        lines.append(f"#   {path:<{width}}  {kind!s:<{kinds}}  {', '.join(text[:24] for text in some[:4])}".rstrip())
    return lines


def _codes(found: Proposal) -> list[str]:
    if not found.codes:
        return ["#", "# Nothing tells an operation: every row is taken for the latest state of its key."]
    counted = ", ".join(f"{code} ({count:,})" for code, count in found.codes.items())
    return ["#", f"# Codes in {found.value('operation')}: {counted}"]


def _line(one: Guess) -> str:
    return f"{one.name} = {toml(one.value)}  # {'sure' if one.sure else 'guessed'}: {one.why}"


def toml(value: Any) -> str:
    """A text, or a list of texts, as TOML writes it: as JSON does."""
    return json.dumps(value, ensure_ascii=False)


def _absent(rows: pa.Table, found: Proposal) -> Guess | None:
    """What it means that documents lack a field, if some do."""
    import numpy as np
    import pyarrow as pa

    from plainstep.core.guess import Guess
    from plainstep.core.raw import Raw
    from plainstep.feeds.bind import fields_of

    now = found.value("now") or "*"
    raw = Raw(rows)
    if not raw.within(now.replace("*", "x")):
        return None
    why = "say null if what is not there is null, unsent if it was not sent and stays as it is"
    fields = [path for path in fields_of(rows) if path.startswith(now.partition("*")[0])]
    masks = raw.present({path: path for path in fields}, pa.array(range(rows.num_rows)))
    any_there = np.logical_or.reduce(list(masks.values()))
    lacking = int((any_there & ~np.logical_and.reduce(list(masks.values()))).sum())
    said = f"{lacking:,} rows lack a field" if lacking else "no row lacks a field"
    return Guess("absent", "unsent" if lacking else "null", f"{said}; {why}")


def _trial(found: Proposal, store: Store, table: str, rows: pa.Table) -> list[str]:
    """The first rows, as the layout reads them; or why it cannot."""
    from plainstep.core.layout import interpret
    from plainstep.core.raw import PLACE
    from plainstep.feeds.bind import bound

    settings = {one.name: one.value for one in found.guesses if one.value not in (None, [])}
    key = tuple(found.key.value) if found.key else ()
    config = LoadConfig.model_validate({"from": f"{store.name}.{table}", "into": "x.y", "key": list(key)})
    try:
        import pyarrow as pa

        said = LayoutConfig.model_validate(settings)
        if PLACE not in rows.column_names:
            rows = rows.append_column(PLACE, pa.array([str(row + 1) for row in range(rows.num_rows)]))
        layout = bound("this", config, said, rows, None, key)
        read = interpret(layout, rows, True)
    except (PlainStepError, ValueError) as error:
        return ["", f"# It cannot be read so yet: {str(error).splitlines()[0]}"]
    lines = ["", f"# So read, {rows.num_rows:,} rows are {read.table.num_rows:,} changes. Some of each:"]
    lines += [f"#   {_told(row)}" for row in _some_of_each(read.table)]
    if read.bad:
        row, why = min(read.bad.items())
        lines.append(f"# {len(read.bad):,} rows contradict it; the first, row {row + 1}: {why}.")
    return lines


def _some_of_each(table: pa.Table) -> list[dict[str, Any]]:
    """The first changes of each operation, in order."""
    import numpy as np

    ops = table["op"].to_numpy()
    first = [row for op in np.unique(ops) for row in np.flatnonzero(ops == op)[:2].tolist()]
    rows: list[dict[str, Any]] = table.take(sorted(first)[: 2 * SHOWN]).to_pylist()
    return rows


def _named(table: str) -> str:
    """A name for the load: the table's, or the first part of the files' that has letters."""
    for part in [table.rpartition(".")[2]] if not {"/", "*"} & set(table) else table.split("/"):
        name = "".join(letter if letter.isalnum() else "_" for letter in part.split(".")[0]).strip("_")
        if name and not name.isdigit():
            return name
    return "feed"


def _told(row: dict[str, Any]) -> str:
    from plainstep.core.words import NOW, WAS, Op

    sides = [
        {name.removeprefix(side): value for name, value in row.items() if name.startswith(side) and value is not None}
        for side in (WAS, NOW)
    ]
    return f"{Op(row['op']).word}: " + " -> ".join(str(side) for side in sides if side)
