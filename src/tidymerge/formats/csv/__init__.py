"""Text files of delimited values."""
