"""Help in writing a layout: what a change table or some files look like, and a commented proposal."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from plainstep.core.casting import as_text
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.inference import guess
from plainstep.core.layouts.interpret import interpret
from plainstep.core.layouts.plausibility import doubt
from plainstep.core.layouts.proposal import Guess
from plainstep.core.layouts.records import prepared
from plainstep.core.layouts.rows import PARTITION, POSITION, Raw
from plainstep.deferred import np, pa
from plainstep.display.text import row_told
from plainstep.errors import PlainStepError
from plainstep.init import messages
from plainstep.settings.layout import LayoutConfig
from plainstep.settings.load import LoadConfig
from plainstep.settings.reading import read_settings
from plainstep.sources.layout_binding import bound, without_beside
from plainstep.sources.validity import BEGINS, EVENT, as_changes
from plainstep.stores.capabilities import HasFeed, Store, with_tables
from plainstep.stores.feed import HasMessages, HasPartitions

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.core.layouts.plausibility import Doubt
    from plainstep.core.layouts.proposal import Proposal
    from plainstep.stores.feed import Feed

# Rows that are looked at, and that are shown.
ROWS, SHOWN = 2000, 5
# Of more places than these, none is looked at by itself.
PARTITIONS = 32
GUESSED_HINT = (
    "# Nothing is merged until you have looked at these (plainstep look shows changes), and taken their names out:"
)
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
    rows, feed, said = _sample(store, table)
    fields = fields_of(rows)
    found = _guessed(rows, fields, feed, key)
    for setting, value in said.items():
        sure = "text" not in value.values() if setting == "message" else value.get("cursor", "since") == "since"
        found.guesses.insert(0, Guess(setting, value, "that is how they look", sure))
    name = _named(table)
    lines = [f"# {place}: looked at {rows.num_rows:,} rows", *_columns(rows, fields), *_codes(found)]
    lines += ["", f"[loads.{_bare(name)}]", f"from = {toml(place)}", f"into = {toml(f'{into}.{name}')}"]
    if found.key:
        lines.append(_line(found.key))
    lines.append(ROWS_HINT)
    lines += ["", f"[loads.{_bare(name)}.layout]"]
    if found.unsure():
        lines += [GUESSED_HINT, f"guessed = {toml(found.unsure())}"]
    lines += [_line(one) for one in found.guesses if one.value not in (None, [])]
    lines += [f"# {one.name}: {one.why}" for one in found.guesses if one.value == []]
    return "".join(
        f"{on_one_line(line)}\n" for line in [*lines, *_trial(found, store, table, rows, feed.beside if feed else ())]
    )


def _guessed(
    rows: pa.Table, fields: dict[str, pa.DataType], feed: Feed | HasPartitions | None, key: tuple[str, ...]
) -> Proposal:
    """A layout, by what rows hold, and by what stands beside it."""
    if not isinstance(feed, HasMessages):
        return guess(rows, fields, feed is not None, key)
    own = {path: kind for path, kind in fields.items() if not path.startswith(feed.beside)}
    values = messages.values_of(rows)
    plain = [name for name in values.column_names if not name.startswith(feed.beside)]
    found = guess(values.select(plain), own, True, key)
    for name in ("position", "hexadecimal", "partition"):  # offsets order them, whatever else rises
        found.guesses = [one for one in found.guesses if one.name != name]
    messages.find_by_messages(rows, own, found, key)
    return found


def _sample(store: Store, table: str) -> tuple[pa.Table, Feed | HasPartitions | None, dict[str, Any]]:
    """Some rows; the feed that they are of, if they are not of a table; and how they are written, as settings of a layout."""
    if isinstance(store, HasFeed):
        feed, said = store.feed(table, LayoutConfig(), None), dict[str, Any]()
        if isinstance(feed, HasMessages):
            said = feed.written()
            feed = store.feed(table, read_settings(LayoutConfig, said), None)
        rows = _by_partition(feed) if isinstance(feed, HasPartitions) else feed.sample()
        return rows, feed, said
    found = with_tables(store).table(table, {})
    with found.reading() as reading:
        batches = list(reading.select(found.schema().names, {}, found.dialect.first(ROWS)))
    if not batches:
        raise PlainStepError(f"{found.place} holds no rows yet.", "A layout is guessed from what stands in them.")
    return pa.Table.from_batches(batches), None, {}


def _by_partition(feed: HasPartitions) -> pa.Table:
    """Some rows of each partition, which each of them tells; of the whole, where one is all there is, or they are many."""
    names = feed.partitions()
    if not 1 < len(names) <= PARTITIONS:
        return feed.sample()
    parts = []
    for name in names:
        rows = feed.partition(name).sample().slice(0, ROWS // len(names))
        parts.append(rows.append_column(PARTITION, pa.array([name] * rows.num_rows, pa.string())))
    return pa.concat_tables(parts, promote_options="permissive")


def _columns(rows: pa.Table, fields: dict[str, pa.DataType]) -> list[str]:
    """Every column with its type and its first values."""
    raw = Raw(rows.slice(0, 200))
    width = max(len(path) for path in fields)
    kinds = max(len(str(kind)) for kind in fields.values())
    lines = ["#"]
    for path, kind in fields.items():
        some = list(dict.fromkeys(text for text in as_text(raw.column(path)).to_pylist() if text is not None))
        lines.append(f"#   {path:<{width}}  {kind!s:<{kinds}}  {', '.join(text[:24] for text in some[:4])}".rstrip())
    return lines


def _codes(found: Proposal) -> list[str]:
    if found.value("valid_from"):
        return ["#", "# Each row is valid for a while: it is put where that begins, and gone where it ends."]
    if found.value("deleted"):
        return ["#", "# Every row is taken for the latest state of its key, or for its end."]
    if found.value("only_new"):
        return ["#", "# Which values a row has tells the operation."]
    if not found.codes:
        lines = ["#", "# Nothing tells an operation: every row is taken for the latest state of its key."]
        few = [f"{path} ({', '.join(text[:24] for text in texts)})" for path, texts in found.few.items()]
        return [*lines, f"# Of few values, so that they might tell it: {'; '.join(few)}"] if few else lines
    counted = ", ".join(f"{code} ({count:,})" for code, count in found.codes.items())
    return ["#", f"# Codes in {found.value('operation')}: {counted}"]


def _line(one: Guess) -> str:
    return f"{one.name} = {toml(one.value)}  # {'sure' if one.sure else 'guessed'}: {one.why}"


def toml(value: Any) -> str:
    """A text, or a list or table of texts, as TOML writes it: texts as JSON does."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{toml(name)} = {toml(one)}" for name, one in value.items()) + " }"
    return json.dumps(value, ensure_ascii=False)


def _bare(name: str) -> str:
    """A name as a part of a TOML table's name."""
    return name if name.isascii() else toml(name)


def on_one_line(line: str) -> str:
    """A line of TOML, whatever the values that it shows hold: what cannot be seen is escaped, also within its texts."""
    return "".join(
        letter if letter.isprintable() else f"\\u{ord(letter):04x}" if ord(letter) < 2**16 else f"\\U{ord(letter):08x}"
        for letter in line
    )


def _trial(found: Proposal, store: Store, table: str, rows: pa.Table, beside: tuple[str, ...]) -> list[str]:
    """The first rows, as the layout reads them; or why it cannot."""
    settings = {one.name: one.value for one in found.guesses if one.value not in (None, [])}
    key = tuple(found.key.value) if found.key else ()
    config = read_settings(LoadConfig, {"from": f"{store.name}.{table}", "into": "x.y", "key": list(key)})
    try:
        said = read_settings(LayoutConfig, settings)
        if said.valid_from:
            rows, said = rows.append_column(EVENT, pa.array([BEGINS] * rows.num_rows, pa.string())), as_changes(said)
        layout = bound("this", config, without_beside(said, rows, beside), rows, None, key)
        read = interpret(layout, prepared(_placed(rows, said), layout), True)
    except (PlainStepError, ValueError) as error:
        return ["", f"# It cannot be read so yet: {str(error).splitlines()[0]}"]
    lines = [
        "",
        f"# So read, {rows.num_rows:,} rows are {read.table.num_rows:,} changes.{' Some of each:' * bool(read.table)}",
    ]
    lines += [f"#   {_told(row)}" for row in _some_of_each(read.table)]
    if read.bad:
        row, why = min(read.bad.items())
        lines.append(f"# {len(read.bad):,} rows contradict it; the first, row {row + 1}: {why}.")
    found_wrong = _doubt(read.table, layout)
    return [*lines, f"# It is doubtful: {found_wrong.what} {found_wrong.likely}"] if found_wrong else lines


def _placed(rows: pa.Table, said: LayoutConfig) -> pa.Table:
    """Rows with their positions; with their numbers, where nothing in them is one."""
    raw = Raw(rows)
    parts = [raw.texts(path).to_pylist() for path in said.position] or [[str(row + 1) for row in range(rows.num_rows)]]
    places = pa.array(["/".join(map(str, one)) for one in zip(*parts, strict=True)], pa.string())
    known = rows.drop_columns([POSITION]) if POSITION in rows.column_names else rows
    return known.append_column(POSITION, places)


def _doubt(table: pa.Table, layout: Layout) -> Doubt | None:
    """What contradicts changes that were read so."""

    numbered = table.append_column("seq", pa.array(range(1, table.num_rows + 1), pa.int64()))
    return doubt(Changes(numbered), layout.key, layout.tells_old) if layout.tells_operations else None


def _some_of_each(table: pa.Table) -> list[dict[str, Any]]:
    """The first changes of each operation, in order."""
    ops = table["op"].to_numpy()
    first = [row for op in np.unique(ops) for row in np.flatnonzero(ops == op)[:2].tolist()]
    rows: list[dict[str, Any]] = table.take(pa.array(sorted(first)[: 2 * SHOWN], pa.int64())).to_pylist()
    return rows


def _named(table: str) -> str:
    """A name for the load: the table's, or the first part of the files' that has letters."""
    for part in [table.rpartition(".")[2]] if not {"/", "*"} & set(table) else table.split("/"):
        name = "".join(letter if letter.isalnum() else "_" for letter in part.split(".")[0]).strip("_")
        if name and not name.isdigit():
            return name
    return "feed"


def _told(row: dict[str, Any]) -> str:
    sides = [
        {name.removeprefix(side): value for name, value in row.items() if name.startswith(side) and value is not None}
        for side in (WAS, NOW)
    ]
    return f"{Op(row['op']).word}: " + " -> ".join(row_told(side) for side in sides if side)
