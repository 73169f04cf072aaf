"""Formats of files: rows read out of them and written into them, within bounds."""

# Those that are written.
FORMATS = ("csv", "jsonl", "parquet")
