"""The program's own speed against limits of this machine, measured in the same run."""
