"""Services behind HTTP: how each is asked, described, read and written. One folder a standard, imported when needed."""
