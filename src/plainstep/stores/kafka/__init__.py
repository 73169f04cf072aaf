"""Brokers that speak Kafka's protocol."""
