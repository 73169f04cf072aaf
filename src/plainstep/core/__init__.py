"""The pure core: tables in, tables out. Nothing here reads, writes or prints."""
