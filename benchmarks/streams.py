"""Streams: messages a second into changes, beside the bare client loop that decodes the same values."""

from __future__ import annotations

import io
import json
import struct
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import fastavro
from confluent_kafka import Consumer, KafkaError, TopicPartition
from tests.brokers import Kafka, Registry

import plainstep
from benchmarks import in_pairs, row, seconds
from benchmarks.feeds import ours

COUNT = 1_000_000
# The mock broker keeps some 5 MB of a partition: so many messages are read again and again, as windows of one load.
KEPT = 20_000
ROW = {
    "type": "record",
    "name": "tree",
    "fields": [
        {"name": "tree_id", "type": "long"}, {"name": "species", "type": "string"}, {"name": "height_m", "type": "double"},
        {"name": "ward", "type": "long"},
    ],
}  # fmt: skip
SCHEMA = {
    "type": "record",
    "name": "change",
    "fields": [
        {"name": "at", "type": {"type": "long", "logicalType": "timestamp-micros"}}, {"name": "what", "type": "string"},
        {"name": "before", "type": ["null", ROW]}, {"name": "after", "type": ["null", "tree"]},
    ],
}  # fmt: skip
LAYOUT = 'time = "at"\noperation = "what"\ninsert = ["planted"]\nupdate = ["grew"]\ndelete = ["felled"]\nwas = "before.*"\nnow = "after.*"\n'
LAYOUTS = {
    "json": LAYOUT + 'missing_field = "null"\n',
    "avro": 'message = { value = "avro" }\n' + LAYOUT,
}


def changes() -> Iterator[dict[str, Any]]:
    """Changes of trees: each grows again and again."""
    for number in range(KEPT):
        tree = {"tree_id": number % 2_000, "species": "small-leaved lime", "height_m": number / 10, "ward": number % 12}
        was = tree | {"height_m": (number - 2_000) / 10} if number >= 2_000 else None
        yield {"at": 1_777_000_000_000_000 + number, "what": "grew" if was else "planted", "before": was, "after": tree}


def sent(broker: Kafka, registry: Registry) -> None:
    """Send them, as JSON and as Avro, into one partition each."""
    schema = fastavro.parse_schema(json.loads(json.dumps(SCHEMA)))
    number = registry.add("avro-value", SCHEMA)
    for topic in ("json", "avro"):
        broker.name = topic
        messages = []
        for change in changes():
            out = io.BytesIO()
            fastavro.schemaless_writer(out, schema, change)
            framed = struct.pack(">bI", 0, number) + out.getvalue()
            messages.append((change["after"]["tree_id"], change if topic == "json" else framed))
        broker.send(*messages, partition=0)


def loop(broker: Kafka, topic: str, decode: Callable[[bytes], Any]) -> int:
    """The bare client: what a consumer by hand does, without doing anything with the values."""
    count = 0
    consumer = Consumer(
        {"bootstrap.servers": broker.url.removeprefix("kafka://"), "group.id": "peer", "enable.partition.eof": True,
         "enable.auto.commit": False, "fetch.wait.max.ms": 10}
    )  # fmt: skip
    for _ in range(COUNT // KEPT):
        consumer.assign([TopicPartition(topic, 0, 0)])
        ended = False
        while not ended:
            for message in consumer.consume(10_000, 0.02):
                error = message.error()
                if error is not None:
                    assert error.code() == KafkaError._PARTITION_EOF
                    ended = True
                    continue
                decode(message.value() or b"")
                count += 1
    consumer.close()
    return count


def avro(registry: Registry) -> Callable[[bytes], Any]:
    """How values in Avro are decoded by hand."""
    known = {1: fastavro.parse_schema(registry.answer(["schemas", "ids", "1"]) and json.loads(json.dumps(SCHEMA)))}
    read = fastavro.schemaless_reader
    return lambda value: read(io.BytesIO(value[5:]), known[int.from_bytes(value[1:5], "big")], None)


def main() -> None:
    """Print a line for each format; of those that are named in its arguments, if there are any."""
    asked = sys.argv[1:] or [*LAYOUTS]
    broker, registry = Kafka(), Registry()
    sent(broker, registry)
    with tempfile.TemporaryDirectory() as place:
        config = (
            f'[stores.broker]\nurl = "{broker.url}?registry={registry.url}"\n[stores.shed]\nurl = "sqlite:///shed.db"\n'
        )
        for name, layout in LAYOUTS.items():
            config += f'[loads.{name}]\nfrom = "broker.{name}"\ninto = "shed.{name}"\nkey = ["tree_id"]\n[loads.{name}.layout]\n{layout}'
        (Path(place) / "plainstep.toml").write_text(config)
        project = plainstep.load_project(Path(place) / "plainstep.toml")
        peers: dict[str, Callable[[bytes], Any]] = {"json": json.loads, "avro": avro(registry)}
        print(
            f"streams: {COUNT:,} messages into changes, and the client loop that decodes the same values (medians of 5)\n"
        )
        row("format", "Plain Step", "the loop", "ours/loop", "messages/s")
        for name in asked:
            source = project.load(name).source
            mine, theirs, ratio = in_pairs(
                5,
                lambda source=source: sum(ours(source) for _ in range(COUNT // KEPT)),
                lambda name=name: loop(broker, name, peers[name]),
            )
            row(name, seconds(mine), seconds(theirs), f"{ratio:.2f} x", f"{COUNT / mine:,.0f}")
    registry.close()


if __name__ == "__main__":
    main()
