"""DuckDB files as stores: tables to merge into, and tables to read that something else fills."""
