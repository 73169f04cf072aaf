"""A broker for trying out: the Kafka client library's own mock cluster, which speaks the real protocol on this machine."""

from __future__ import annotations

from confluent_kafka import Producer


def mock_brokers() -> tuple[Producer, str]:
    """A mock cluster, which goes with the producer that made it, and its URL. Topics come when they are written to, with four partitions."""
    producer = Producer({"bootstrap.servers": "nobody:1", "test.mock.num.brokers": 1, "log_level": 0})
    brokers = producer.list_topics(timeout=10).brokers.values()
    return producer, "kafka://" + ",".join(f"{one.host}:{one.port}" for one in brokers)
