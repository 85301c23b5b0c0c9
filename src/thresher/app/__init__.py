"""Wiring the program together: machines, engines, paths, the demo bench. Used by the window and the command line."""
