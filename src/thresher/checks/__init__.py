"""Component checks: one file a check, each a value in the registry. No thread, no window, no engine."""
