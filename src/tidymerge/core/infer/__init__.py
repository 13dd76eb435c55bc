"""What rows and tables tell by themselves: types, keys, totals, the draft of a job."""
