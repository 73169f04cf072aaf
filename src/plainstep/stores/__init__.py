"""Stores: where changes are read and rows are merged. Found by the scheme of their URL."""
