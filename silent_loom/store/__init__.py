"""What the artist made, kept: SQLite through SQLAlchemy, sources as blobs by content hash, history without end."""
