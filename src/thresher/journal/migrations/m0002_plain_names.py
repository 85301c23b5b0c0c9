"""Format 1 to 2: the fields of findings, trials and decisions have plainer names.

`fit` became `configuration`, `ours` became `known_good`, `frozen` became `locked`, `turned_out` became `actual_cause`,
and the kind of finding "core stops" became "core hung".
"""

import json
import sqlite3

_NAMES = {"fit": "configuration", "ours": "known_good", "frozen": "locked", "turned_out": "actual_cause"}
_KINDS = {"core stands still": "core hung"}
_MARKS = ("finding", "taken back")
_JOB_ROWS = ("book of trials", "decisions")


def migrate(connection: sqlite3.Connection) -> None:
    """Rewrite the rows that hold such fields."""
    for name, value in connection.execute("SELECT name, value FROM job WHERE name IN (?, ?)", _JOB_ROWS).fetchall():
        connection.execute("UPDATE job SET value = ? WHERE name = ?", (_renamed(value), name))
    for mark, body in connection.execute("SELECT mark, body FROM marks WHERE kind IN (?, ?)", _MARKS).fetchall():
        connection.execute("UPDATE marks SET body = ? WHERE mark = ?", (_renamed(body), mark))


def _renamed(text: str) -> str:
    return json.dumps(_walk(json.loads(text)), ensure_ascii=False)


def _walk(value: object) -> object:
    if isinstance(value, dict):
        return {_NAMES.get(name, name): _kind(name, _walk(each)) for name, each in value.items()}
    if isinstance(value, list):
        return [_walk(each) for each in value]
    return value


def _kind(name: str, value: object) -> object:
    return _KINDS.get(value, value) if name == "kind" and isinstance(value, str) else value
