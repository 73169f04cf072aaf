"""Iceberg tables of a catalogue."""
