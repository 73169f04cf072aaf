"""Feeds of JSON pages over HTTP."""
