"""How the messages of a topic are read: by what a layout says of them, and by the schemas of a registry."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import ConfigError
from plainstep.formats.avro_values import AvroValues
from plainstep.formats.columns import unified
from plainstep.formats.framed import FramedValues
from plainstep.formats.protobuf_values import ProtobufValues
from plainstep.formats.values import CsvValues, JsonValues, TextValues, Values
from plainstep.settings.layout import MessageConfig
from plainstep.stores.misplaced import refuse_misplaced
from plainstep.stores.streams.beside import BESIDE, Sampled
from plainstep.stores.streams.rows import MessageRows
from plainstep.stores.streams.schemas import Schemas

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig


def rows_of(
    place: str,
    topic: str,
    layout: LayoutConfig,
    samples: Callable[[], list[Sampled]],
    base: Path,
    asked: Schemas | None = None,
    beside: tuple[str, ...] = BESIDE,
) -> MessageRows:
    """What reads the messages of a topic as rows.

    Args:
        place: the feed's name, for messages.
        topic: the topic's name, by which a registry knows its schemas: TOPIC-value and TOPIC-key.
        layout: how they are read.
        samples: tells some of them.
        base: the folder that relative paths start from.
        asked: the schemas of the store's registry, if it has one.
        beside: what stands beside values, as far as there is anything.

    Raises:
        ConfigError: what the layout says cannot be.
    """
    said = layout.message or MessageConfig()
    _refuse_unused(place, layout, said)
    values = _values(place, said.value, said.value_schema, layout, base, asked)
    keys = None if said.key == "text" else _values(place, said.key, said.key_schema, layout, base, asked)

    def known() -> pa.Schema:
        """The columns that any schema of the topic has: a message may come whose schema none of the sample has."""
        if asked is None or not isinstance(values, FramedValues) or said.value_schema:
            return pa.schema([])
        return unified(values.columns_of(number) for number in asked.numbers(f"{topic}-value", said.value))

    def form(number: int) -> str:
        return asked.format(number) if asked else ""

    return MessageRows(place, layout, samples, values, keys, known, form, beside)


def _values(place: str, kind: str, file: str, layout: LayoutConfig, base: Path, asked: Schemas | None) -> Values:
    if kind == "json":
        return JsonValues()
    if kind == "text":
        return TextValues()
    if kind == "csv":
        csv = layout.csv
        if not csv or not csv.header:
            raise ConfigError(
                f"The messages of {place} are lines of CSV, and nothing names their columns.",
                "A message has no header.",
                'Name them: csv = { header = ["..."] } in the layout.',
            )
        return CsvValues(csv.header, csv.separator or ",", csv.nulls)
    shown = f"The messages of {place}"
    if kind == "protobuf":
        return ProtobufValues(asked.protobuf if asked else _refuse_unknown(place), shown)
    schema = _schema_in(base / file) if file else None
    return AvroValues(schema, asked.avro if asked else _refuse_unknown(place), shown)


def _refuse_unknown(place: str) -> Callable[[int], Any]:
    """What tells of schemas where no registry is named: nothing."""

    def refuse(number: int) -> Any:
        raise ConfigError(
            f"The messages of {place} name the schema {number}, and no registry is named that has it.",
            "",
            "Add ?registry= and its address to the store's URL; or, of Avro, name a file: message.value_schema in the layout.",
        )

    return refuse


def _schema_in(path: Path) -> Any:
    try:
        return json.loads(path.read_text())
    except (OSError, ValueError) as error:
        raise ConfigError(
            f"{path} cannot be read as an Avro schema: {error}.", "", "Fix message.value_schema, or the file."
        ) from None


def _refuse_unused(place: str, layout: LayoutConfig, said: MessageConfig) -> None:
    """Refuse what a layout says that nothing would look at."""
    refuse_misplaced(
        place,
        "a log of messages",
        layout,
        *(() if said.value == "csv" else ("csv",)),
        position="Offsets are its positions.",
        partition="Its own partitions are those that keep a watermark each.",
        valid_from="What ends and what follows it must be seen together, in a table.",
    )
    for name, schema, kind in (("value", said.value_schema, said.value), ("key", said.key_schema, said.key)):
        if schema and kind != "avro":
            raise ConfigError(
                f"The layout of {place} says message.{name}_schema, and that a {name} is {kind}.",
                "A file with a schema is one of Avro.",
                f'Leave it out, or say message.{name} = "avro".',
            )
