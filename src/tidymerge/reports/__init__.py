"""Receipts and rejects in the forms that leave the program."""
