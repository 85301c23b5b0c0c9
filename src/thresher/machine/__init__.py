"""Two adapters of the port to a machine: this computer, and a directory that looks like its root.

They hand out bytes and times and leave all meaning to the readers above. The third adapter, a simulated
machine, is `thresher.simulator`.
"""
