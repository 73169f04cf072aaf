"""Trying out what a table's own triggers and constraints do to captured changes, in a copy, before production does."""
