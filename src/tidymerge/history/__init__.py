"""The run log: who loaded what, and what undo needs, in files of open formats that only their owner can read."""
