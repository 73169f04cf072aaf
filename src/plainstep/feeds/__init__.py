"""Feeds: changes that something else wrote, read by a layout."""
