"""One load: its windows, its step, its checks."""
