"""Capture in PostgreSQL: by triggers into change tables, or from the server's log."""
