"""The directory of Thresher's fault codes: meaning, usual causes, next steps.

A code is a letter for the part group and three digits, stable for ever. Which evidence bears which code is
left to the packages that produce it.
"""
