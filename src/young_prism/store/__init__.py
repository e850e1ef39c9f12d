"""SQLAlchemy models, migrations and queries: the only place with SQL. Other code uses `Store` alone."""
