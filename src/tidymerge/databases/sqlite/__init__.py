"""SQLite tables as targets: an embedded database, no server."""
