"""A run from start to end: the flows, the steps that they put in a row, and the questions that are asked of runs."""
