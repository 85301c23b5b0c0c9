"""The command line: one file a verb in `verbs`, a list of them in `app.py`.

Every verb works without a screen and ends with 0 (fine), 1 (faults found) or 2 (could not do it). What a verb
needs beyond its options is imported when it runs, so that `--help` and a look at the parts do not load the engine.
"""
