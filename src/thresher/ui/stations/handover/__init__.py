"""The Hand over station: the report as it will print, its seal, files, and the machine's history."""
