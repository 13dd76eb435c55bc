"""Cells to typed values: how each kind of value is spelled, and what is wrong with a cell that can't be read."""
