"""Events, from the outbox to whoever receives them."""
