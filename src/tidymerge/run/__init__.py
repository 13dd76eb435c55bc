"""A run from start to end: the steps that `flow` puts in a row, and the questions that are asked of runs."""
