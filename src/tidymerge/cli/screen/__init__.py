"""What the terminal shows: tables, receipts, progress, and how a run ends."""
