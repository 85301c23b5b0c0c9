"""The job file: one SQLite file a job, written tick by tick, that survives a crash. The only user of sqlite3.

Times in it are machine seconds since boot together with Unix time; readings are one packed row a tick. The
schema is described in docs/formats.md. What the rows mean is left to the engine and the report.
"""
