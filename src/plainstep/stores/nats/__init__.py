"""Streams of NATS JetStream."""
