"""What a careful person would stop at: warnings, and limits."""
