"""What a database must be able to do, and what all of them share in doing it."""
