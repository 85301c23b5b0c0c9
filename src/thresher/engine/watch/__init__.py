"""Watching while the bench is open: readings, sensors, kernel errors, memory coverage, stalled workers."""
