"""The verbs of the command line, one file each."""
