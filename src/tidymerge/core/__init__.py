"""The heart: matching, deciding and accounting, as pure functions over columns.

Nothing in here opens a file or a socket, reads the clock or prints. A step is a function from
records to records and needs only its own inputs, so it can run on any part of the rows.
"""
