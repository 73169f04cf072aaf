"""Looking without touching: changes, net changes, lives of rows, status, ledger. Nothing here writes anywhere."""
