"""Readings of sensors on the street trees of Larkmoor, as a broker has them: in Avro, with their schema in a registry."""

from __future__ import annotations

import io
import random
import struct
from datetime import UTC, datetime, timedelta
from typing import Any

import fastavro

from plainstep.demo.broker import mock_brokers
from plainstep.demo.registry import Registry

CONFIG = """\
[stores.broker]
url = "{url}?registry={registry}"

[stores.house]
url = "duckdb:///house.duckdb"
"""
# The latest reading of each sensor: a lookup table, from envelopes in Avro.
LOAD = """
[loads.sensor]
from = "broker.readings"
into = "house.sensor"
key = ["sensor_id"]

[loads.sensor.layout]
message = { value = "avro" }
skip = "message.tombstone"
operation = "what"
insert = ["mounted"]
update = ["measured"]
delete = ["removed"]
was = "before.*"
now = "after.*"
time = "at"
"""
MOMENT = {"type": "long", "logicalType": "timestamp-micros"}
FIELDS: list[dict[str, Any]] = [
    {"name": "sensor_id", "type": "long"}, {"name": "tree_id", "type": "long"},
    {"name": "moisture", "type": ["null", "double"]}, {"name": "battery", "type": "int"},
]  # fmt: skip
# What a new kind of sensor tells besides.
FIRMWARE = {"name": "firmware", "type": ["null", "string"], "default": None}
SENSORS = 12


class Readings:
    """A broker with a topic of readings, and a registry.

    Attributes:
        registry: the registry.
        url: the broker's URL.
    """

    def __init__(self) -> None:
        self.registry, self._chance = Registry(), random.Random(11)
        self._producer, self.url = mock_brokers()
        self._rows: dict[int, dict[str, Any]] = {}
        self._now = datetime(2026, 11, 2, 8, tzinfo=UTC)
        self._use(FIELDS)

    def config(self) -> str:
        """The stores, as plainstep.toml has them."""
        return CONFIG.format(url=self.url, registry=self.registry.url)

    def _use(self, fields: list[dict[str, Any]]) -> None:
        row = {"type": "record", "name": "reading", "fields": fields}
        schema = {
            "type": "record", "name": "change",
            "fields": [
                {"name": "what", "type": "string"}, {"name": "at", "type": MOMENT},
                {"name": "before", "type": ["null", row]}, {"name": "after", "type": ["null", "reading"]},
            ],
        }  # fmt: skip
        self._number = self.registry.add("readings-value", schema)
        self._schema = fastavro.parse_schema(schema)

    def _send(self, what: str, sensor: int, row: dict[str, Any] | None) -> None:
        """Send what became of a sensor: to the partition of its number, so that its readings stay in order."""
        self._now += timedelta(seconds=40)
        out = io.BytesIO()
        out.write(struct.pack(">bI", 0, self._number))
        change = {"what": what, "at": self._now, "before": self._rows.get(sensor), "after": row}
        fastavro.schemaless_writer(out, self._schema, change)
        self._producer.produce("readings", out.getvalue(), str(sensor).encode())
        if row is None:
            self._producer.produce("readings", None, str(sensor).encode())
            del self._rows[sensor]
        else:
            self._rows[sensor] = row

    def _measure(self, count: int, **more: Any) -> None:
        for _ in range(count):
            sensor = self._chance.choice([*self._rows])
            moisture = round(self._chance.uniform(8, 60), 1)
            battery = max(self._rows[sensor]["battery"] - self._chance.randrange(2), 0)
            self._send("measured", sensor, self._rows[sensor] | {"moisture": moisture, "battery": battery} | more)

    def monday(self) -> None:
        """Sensors are mounted, and measure; one is removed, which the broker tells twice."""
        for sensor in range(1, SENSORS + 1):
            self._send(
                "mounted", sensor, {"sensor_id": sensor, "tree_id": 17 * sensor, "moisture": None, "battery": 100}
            )
        self._measure(300)
        self._send("removed", 5, None)
        self._producer.flush(10)

    def tuesday(self) -> None:
        """The sensors get new firmware, and tell its version: their schema has one column more."""
        self._use([*FIELDS, FIRMWARE])
        self._measure(200, firmware="2.1")
        self._send("mounted", 13, {"sensor_id": 13, "tree_id": 42, "moisture": 31.5, "battery": 100, "firmware": "2.1"})
        self._producer.flush(10)

    def close(self) -> None:
        """Stop the registry; the broker goes with this object."""
        self.registry.close()
