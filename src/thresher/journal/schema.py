"""Schema of the job file and its versions."""

APPLICATION_ID = 0x54485253  # "THRS"
VERSION = 2

SCHEMA = """
CREATE TABLE job (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
) STRICT;

CREATE TABLE runs (
    run INTEGER PRIMARY KEY,
    title TEXT NOT NULL,
    sheet TEXT NOT NULL,
    machine TEXT NOT NULL,
    channels TEXT NOT NULL,
    simulated INTEGER NOT NULL,
    boot_id TEXT NOT NULL,
    began_at REAL NOT NULL,
    began_wall REAL NOT NULL,
    ended_at REAL,
    ending TEXT,
    ending_detail TEXT
) STRICT;

CREATE TABLE ticks (
    run INTEGER NOT NULL REFERENCES runs,
    at REAL NOT NULL,
    wall REAL NOT NULL,
    late INTEGER NOT NULL,
    reading BLOB NOT NULL,
    missing TEXT,
    PRIMARY KEY (run, at)
) STRICT, WITHOUT ROWID;

CREATE TABLE marks (
    mark INTEGER PRIMARY KEY,
    run INTEGER REFERENCES runs,
    at REAL NOT NULL,
    kind TEXT NOT NULL,
    body TEXT NOT NULL
) STRICT;

CREATE INDEX marks_by_run ON marks (run, kind);
"""
