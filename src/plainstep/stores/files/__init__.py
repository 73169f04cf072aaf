"""Folders of files as stores: feeds of changes that land as JSON Lines, CSV, Parquet or Avro, and journals."""
