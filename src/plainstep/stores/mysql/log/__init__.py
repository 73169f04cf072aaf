"""The binary log of a server, as a source of changes."""
