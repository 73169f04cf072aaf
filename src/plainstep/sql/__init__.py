"""Standard SQL as people write it in a load's settings: its evaluator, its expressions, its literals."""
