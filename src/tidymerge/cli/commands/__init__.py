"""One file a command. What is slow to import is imported inside, so that help answers at once."""
