"""Any SQL database that SQLAlchemy knows."""
