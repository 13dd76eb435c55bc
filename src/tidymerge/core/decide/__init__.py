"""What becomes of each row: its values by the job's rules, its verdict, the changes."""
