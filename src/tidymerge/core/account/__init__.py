"""The tally, its proof, and the fingerprint."""
