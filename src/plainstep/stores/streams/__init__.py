"""Logs of messages that brokers keep, as feeds: what all of them have in common. Each broker is a store of its own."""
