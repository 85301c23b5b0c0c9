"""Anything that a technician may hold: a log, a register, a stop code, a dump, one of our codes; decoded into parts.

Brings the decoders of `thresher.events` and the directories of `thresher.codes` together. What is done about it is
left to `thresher.diagnosis`; nothing here reads the machine."""
