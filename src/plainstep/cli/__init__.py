"""The command line: a thin skin over the library."""
