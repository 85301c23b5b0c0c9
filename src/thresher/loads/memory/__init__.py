"""The memory load: pages, patterns, and the walk through them."""
