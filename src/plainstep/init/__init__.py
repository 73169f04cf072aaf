"""What plainstep.toml may say: written from the stores it is given."""
