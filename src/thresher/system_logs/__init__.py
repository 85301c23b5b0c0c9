"""Logs and crash dumps of the system that is installed on a machine, read only."""
