"""Checks of sound: what comes out of each output, what each input hears, and the loop from one to the other."""
