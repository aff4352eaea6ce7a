"""PostgreSQL through SQLAlchemy, and artefact files. Functions take a connection; the caller owns the transaction."""
