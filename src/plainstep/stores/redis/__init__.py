"""Streams of Redis."""
