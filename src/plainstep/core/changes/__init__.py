"""Changes and net changes: what they are made of, how they collapse, how they are told."""
