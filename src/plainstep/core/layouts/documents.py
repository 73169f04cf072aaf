"""JSON documents as columns: one document a row, fields reached by path, numbers exact in the type that is wanted."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import suppress
from typing import Any

from plainstep.core.arrays import Bools, Numbers, replaced, text_offsets, utc_time
from plainstep.core.casting import common, fitted, overflows, readable
from plainstep.core.layouts.exact_json import INEXACT, Doubtful, Written, is_deep, parsed, written
from plainstep.core.layouts.paths import Path, value_at
from plainstep.core.layouts.tagged import Tags, fields_of, tags_of, texts_of
from plainstep.deferred import np, pa, pajson, pc
from plainstep.errors import DataError
from plainstep.sql.engine import evaluated

# So many fields no table has; each thousand more takes seconds.
FIELDS = 4096
# Bytes that are parsed at a time, Arrow's own default.
BLOCK = 1 << 20
# Bytes of the smallest block.
LEAST = 1 << 12


def read(
    documents: pa.Array,
    kinds: dict[Path, pa.DataType],
    whole: Collection[Path] = (),
    tagged: Collection[Path] = (),
) -> tuple[dict[Path, pa.Array], dict[int, str]]:
    """Fields of documents as columns.

    Args:
        documents: texts, null where there is no document.
        kinds: the type of each field, by its path. A null or absent field is null.
        whole: those that are wanted as JSON, as texts, whatever they hold.
        tagged: those that are wanted as JSON, too, without the object that names their type if they have one: they may have it.

    Returns:
        The columns by path, and what is wrong with rows that are not documents or hold something else.
    """
    plain = {path: kind for path, kind in kinds.items() if path not in whole and path not in tagged}
    tags = tags_of(documents, [path for path in kinds if path in tagged]) if tagged else {}
    wrong: dict[int, str] = {}
    try:
        columns = _quickly(documents, plain, tags)
    except (pa.ArrowException, pa.ArrowNotImplementedError):
        if tags:
            return read(documents, kinds, {*whole, *tagged})
        columns, wrong = _carefully(documents, plain)
    asked = [path for path in kinds if path not in columns]
    if asked and not columns:
        wrong = dict.fromkeys(_invalid(documents), "it is not a JSON object")
    return columns | (_as_json(_without(documents, wrong), asked) if asked else {}), wrong


def _quickly(
    documents: pa.Array, kinds: dict[Path, pa.DataType], tags: Mapping[Path, Tags] | None = None
) -> dict[Path, pa.Array]:
    """All rows at once, by Arrow's reader. It tells that something is wrong, but not where."""
    tags = tags or {}
    if not len(documents) or not (kinds or tags):
        return {path: pa.nulls(len(documents), kind) for path, kind in kinds.items()}
    found = table_of(documents, kinds | fields_of(tags), is_closed=bool(tags))
    return columns_of(found, kinds) | {path: texts_of(member(found, path), named) for path, named in tags.items()}


def table_of(documents: pa.Array, kinds: dict[Path, pa.DataType], is_closed: bool = False) -> pa.Table:
    """Documents as a table of what they hold, a row each; with fields that were not asked for, if ``is_closed``.

    Raises:
        pyarrow.ArrowException: something is wrong with them.
    """
    lines = documents if _one_block(documents) else pc.binary_join_element_wise(pc.fill_null(documents, "{}"), "\n", "")
    if not _objects(lines):
        raise pa.ArrowInvalid("not an object in every row")
    size = max(lines.nbytes, LEAST)
    found = pajson.read_json(
        pa.BufferReader(bytes_of(lines)),
        pajson.ReadOptions(
            # One block is parsed by one thread anyway: handing it over costs more than parsing a small file.
            use_threads=len(documents) > 1 and lines.nbytes > BLOCK,
            # (To get the memory of a whole block takes twice as long as parsing a few documents.)
            block_size=min(size, BLOCK) if len(lines) > 1 else size,
        ),
        pajson.ParseOptions(
            explicit_schema=_schema({path: _parsed(kind) for path, kind in kinds.items()}),
            unexpected_field_behavior="infer" if is_closed else "ignore",
            newlines_in_values=lines is not documents,
        ),
    )
    if found.num_rows != len(documents):
        raise pa.ArrowInvalid("not one document a row")
    return found


def columns_of(table: pa.Table, kinds: dict[Path, pa.DataType]) -> dict[Path, pa.Array]:
    """Fields of such a table in their types.

    Raises:
        pyarrow.ArrowInvalid: a value is not one of its type.
    """
    columns = {path: member(table, path) for path in kinds}
    for path, kind in kinds.items():
        if overflows(columns[path]) or _not_finite(columns[path]):
            raise pa.ArrowInvalid("a number has too many digits, or is none of JSON's")
        if _parsed(kind) != kind:
            columns[path], bad = fitted(columns[path], kind)
            if len(bad):
                raise pa.ArrowInvalid("a value does not fit")
    return columns


def _parsed(kind: pa.DataType) -> pa.DataType:
    """In what type a field is read. Of JSON, times in UTC can be, too: Arrow takes no number for one, and what names no zone as UTC."""
    return kind if kind == utc_time() else readable(kind)


def _not_finite(numbers: pa.Array) -> bool:
    return pa.types.is_floating(numbers.type) and not pc.all(pc.fill_null(pc.is_finite(numbers), True)).as_py()


def _one_block(documents: pa.Array) -> bool:
    """Whether the texts are lines of files, each with its end: then they lie one after the other already."""
    if (
        documents.null_count
        or not len(documents)
        or not (pa.types.is_string(documents.type) or pa.types.is_large_string(documents.type))
    ):
        return False
    offsets, data = _laid_out(documents)
    return bool((data[offsets[1:] - 1] == ord("\n")).all())


def _laid_out(lines: pa.Array) -> tuple[Numbers, Numbers]:
    """Where texts begin and end in their bytes, and these."""
    return text_offsets(lines), np.frombuffer(lines.buffers()[2] or b"\0", dtype=np.uint8)


def _objects(lines: pa.Array) -> bool:
    """Whether each text begins and ends as an object does. (Of a lone null, Arrow's reader dies.)

    Arrow's reader only counts objects: of two in one text, and one that is cut off and ends in the next, it makes as many rows as
    there are texts, which are not theirs. What follows an object after nothing but blanks cannot go on within one.
    """
    offsets, data = _laid_out(lines)
    begins = data[np.minimum(offsets[:-1], len(data) - 1)]
    ends = data[np.maximum(offsets[1:] - 2, 0)]  # each text has a line end, or one was added
    odd = np.flatnonzero((begins != ord("{")) | (ends != ord("}")))
    if not len(odd):
        return True
    bare = pc.utf8_trim_whitespace(lines.take(pa.array(odd)))
    return bool(pc.all(pc.and_(pc.starts_with(bare, "{"), pc.ends_with(bare, "}"))).as_py())


def bytes_of(lines: pa.Array) -> pa.Buffer:
    """Texts, one after the other as they lie in memory."""
    offsets, _ = _laid_out(lines)
    return lines.buffers()[2].slice(int(offsets[0]), int(offsets[-1]) - int(offsets[0]))


def _schema(kinds: dict[Path, pa.DataType]) -> pa.Schema:
    tree: dict[str, dict[Path, pa.DataType]] = {}
    for path, kind in kinds.items():
        tree.setdefault(path[0], {})[path[1:]] = kind
    return pa.schema([(name, parts[()] if () in parts else pa.struct(_schema(parts))) for name, parts in tree.items()])


def member(table: pa.Table, path: Path) -> pa.Array:
    """What lies at a path of a table."""
    column = table[path[0]]
    column = column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()
    return pc.struct_field(column, list(path[1:])) if len(path) > 1 else column


def _pointer(path: Path) -> str:
    """The path as JSON Pointer (RFC 6901) writes it."""
    return "".join("/" + part.replace("~", "~0").replace("/", "~1") for part in path)


def _carefully(documents: pa.Array, kinds: dict[Path, pa.DataType]) -> tuple[dict[Path, pa.Array], dict[int, str]]:
    """Every field as text first, so that what is wrong can be told row by row."""
    wrong = dict.fromkeys(_invalid(documents), "it is not a JSON object") | _doubtful(documents)
    columns = {}
    for path, texts in _texts(_without(documents, wrong), list(kinds)).items():
        columns[path], bad = fitted(texts, kinds[path])
        for row in bad.tolist():
            wrong.setdefault(row, f"{'.'.join(path)} is {texts[row].as_py()!r}, which is not a valid {kinds[path]}")
    return columns, wrong


def _doubtful(documents: pa.Array) -> dict[int, str]:
    """Documents that say two things at once, or are nested beyond reason."""
    wrong = {}
    for row, text in enumerate(documents.to_pylist()):
        try:
            parsed(text or "{}")
        except Doubtful as doubtful:
            wrong[row] = str(doubtful)
        except ValueError:
            continue  # it is not a document, which is told as that
    return wrong


def _invalid(documents: pa.Array) -> list[int]:
    objects = "CASE WHEN json_valid(d) THEN json_type(d) = 'OBJECT' ELSE d IS NULL END AS v"
    valid = evaluated(pa.table({"d": documents}), objects)["v"]
    return np.flatnonzero(pc.equal(pc.fill_null(valid, True), False).to_numpy()).tolist()


def _without(documents: pa.Array, wrong: dict[int, str]) -> pa.Array:
    if not wrong:
        return documents
    mask = np.zeros(len(documents), dtype=np.bool_)
    mask[list(wrong)] = True
    return pc.if_else(pa.array(mask), pa.scalar(None, documents.type), documents)


def _texts(documents: pa.Array, paths: list[Path]) -> dict[Path, pa.Array]:
    return _evaluated("json_extract_string(d, ?::VARCHAR[]) AS v", documents, paths, _number)


def _number(value: Any) -> str | None:
    return str(value) if isinstance(value, Written) else None


def _as_json(documents: pa.Array, paths: list[Path]) -> dict[Path, pa.Array]:
    """Fields as JSON; null where they are null or absent. Numbers keep their digits."""
    found = _evaluated("json_extract(d, ?::VARCHAR[])::VARCHAR[] AS v", documents, paths, written)
    return {
        path: pc.if_else(pc.equal(column, "null"), pa.scalar(None, column.type), column)
        for path, column in found.items()
    }


def _evaluated(
    sql: str, documents: pa.Array, paths: list[Path], exactly: Callable[[Any], str | None]
) -> dict[Path, pa.Array]:
    """Fields as texts, by the evaluator; and where this may not keep every digit of a number, by ``exactly``, if that is not None."""
    found = evaluated(pa.table({"d": documents}), sql, [[_pointer(path) for path in paths]])["v"]
    columns = _columns(found, len(paths), len(documents))
    exact: list[dict[int, str]] = [{} for _ in paths]
    for row, document in _with_inexact_numbers(documents):
        for place, path in enumerate(paths):
            text = exactly(value_at(document, path))
            if text is not None:
                exact[place][row] = text
    return {path: replaced(column, texts) for path, column, texts in zip(paths, columns, exact, strict=True)}


def _with_inexact_numbers(documents: pa.Array) -> Iterator[tuple[int, Any]]:
    """The documents with numbers of which the evaluator may not keep every digit, by their rows: numbers as they are written."""
    inexact = pc.fill_null(pc.match_substring_regex(documents, INEXACT), False).to_numpy(zero_copy_only=False)
    for row in np.flatnonzero(inexact).tolist():
        with suppress(ValueError):  # told by whoever looks at the document as a whole
            yield row, parsed(documents[row].as_py())


def _columns(lists: pa.ChunkedArray, width: int, count: int) -> list[pa.Array]:
    """Lists of one length, as columns; nulls where there is no list."""
    whole = lists.combine_chunks()
    there = whole.is_valid().to_numpy(zero_copy_only=False)
    values = whole.flatten()
    row = np.full(count, -1, dtype=np.int64)
    row[there] = np.arange(int(there.sum())) * width
    return [values.take(pa.array(np.where(there, row + place, 0), mask=~there)) for place in range(width)]


def as_texts(documents: pa.Array, path: Path) -> tuple[pa.Array, dict[int, str]]:
    """One field of documents as texts, whatever it holds, and what is wrong with rows that are not documents."""
    wrong = dict.fromkeys(_invalid(documents), "it is not a JSON object")
    return _texts(_without(documents, wrong), [path])[path], wrong


def present(documents: pa.Array, paths: list[Path]) -> dict[Path, Bools]:
    """Where documents have a field, if only as null."""
    found = evaluated(
        pa.table({"d": documents}), "json_type(d, ?::VARCHAR[]) AS v", [[_pointer(path) for path in paths]]
    )["v"]
    columns = _columns(found, len(paths), len(documents))
    return {path: column.is_valid().to_numpy(zero_copy_only=False) for path, column in zip(paths, columns, strict=True)}


def kinds_of(documents: pa.Array) -> dict[Path, pa.DataType]:
    """The fields that a sample of documents has, each with a type that holds its values.

    Whole numbers beside fractions become floating-point numbers; texts that look like times stay texts.
    """
    found: dict[Path, set[pa.DataType]] = {}

    def note(value: object, path: Path) -> None:
        if isinstance(value, dict) and (value or not path):
            for name, inner in value.items():
                note(inner, (*path, name))
        elif path:
            found.setdefault(path, set()).add(kind_of_value(value))

    for text in documents.to_pylist():
        if text is not None and not is_deep(text):
            try:
                note(json.loads(text), ())
            except ValueError:
                continue  # told when it is read
        if len(found) > FIELDS:
            raise DataError(
                f"A sample of the documents has more than {FIELDS:,} fields.",
                "No table has so many columns; they may be the keys of a map.",
                "Have the documents hold such a map as a list, or as text.",
            )

    parents = {path[:depth] for path in found for depth in range(1, len(path))}
    return {path: common(kinds) for path, kinds in found.items() if path not in parents}


def kind_of_value(value: object) -> pa.DataType:
    """A type that holds a value of JSON's."""
    if value is None:
        return pa.null()
    if isinstance(value, bool):
        return pa.bool_()
    if isinstance(value, int) and -(1 << 63) <= value < 1 << 63:
        return pa.int64()
    return pa.float64() if isinstance(value, int | float) else pa.string()
