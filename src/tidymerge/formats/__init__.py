"""What a file format is, for reading and for writing."""
