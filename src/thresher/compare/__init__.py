"""Comparing stored runs: which runs there are, whether they may be compared, what changed, what would help."""
