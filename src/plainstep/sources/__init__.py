"""Sources: feeds, differences and filters, made into what a load reads."""
