"""The Compare station: runs over each other from the moment the load came on, and what changed."""
