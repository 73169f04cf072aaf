"""PostgreSQL databases as stores: changes captured in tables or read from the server's log, and tables to merge into."""
