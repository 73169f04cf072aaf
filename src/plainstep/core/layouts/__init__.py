"""How rows that something else wrote are read as changes."""
