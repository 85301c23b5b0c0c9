"""Run sheets carried out: the state machine, the limits, the watchers, and the protocol to the window.

The engine owns sampler, workers and journal, and has no interface code. It continues when the window dies.
"""
