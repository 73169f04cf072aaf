"""What plainstep.toml may say, and where in the file it said it."""
