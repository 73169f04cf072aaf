"""Capture in SQLite: change tables written by triggers, and what reads them."""
