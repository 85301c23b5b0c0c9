"""Heat as physics: plateaus, thermal resistances, time constants, fair comparison of runs. Numerics on plain data."""
