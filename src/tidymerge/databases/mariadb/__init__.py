"""MariaDB tables as targets, from version 10.6 on (and MySQL 8, which speaks the same protocol)."""
