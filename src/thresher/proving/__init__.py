"""The proving ground: drawn machines with drawn faults, the program's own advice followed on them, and scores.

Machines are simulated machines, whose rules are not those that the diagnosis reckons with. What a run finds goes
through the readers, watchers and decoders of the program; only worker processes and waiting are left out
(`quick_run.py`)."""
