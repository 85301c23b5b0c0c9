"""How every verb ends."""

FINE, FAULTS, COULD_NOT = 0, 1, 2
