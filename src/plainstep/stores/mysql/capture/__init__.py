"""Change capture by triggers: turning it on and off, and reading what they recorded."""
