"""Carrying out a run sheet: the conductor, its steps, its limits, and the record of it all."""
