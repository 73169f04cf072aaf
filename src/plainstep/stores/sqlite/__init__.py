"""SQLite files as stores: captured tables to read from, and tables to merge into."""
