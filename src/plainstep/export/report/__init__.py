"""The report: one self-contained page."""
