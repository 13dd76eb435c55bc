"""What was decided, for people: samples, rejected rows, marks, the mapping in words."""
