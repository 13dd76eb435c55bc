"""What a run needs of the outside, as protocols: each a capability that an adapter has or lacks."""
