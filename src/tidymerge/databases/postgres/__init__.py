"""PostgreSQL tables as targets, from version 13 on."""
