"""Finding the record that each row means: keys as codes, buckets, the order of parents and children."""
