"""What the log keeps of a run, and what puts it back."""
