"""Loads, steps and verbs from other installed packages, named by their entry points."""

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TypeVar

from thresher.model.errors import InputError, InputFault

T = TypeVar("T")


def plugins(group: str, kind: type[T]) -> dict[str, T]:
    """Return what the entry points of a group name, by their names. Raises InputError for what is of another kind."""
    found: dict[str, T] = {}
    if not any(f"[{group}]".encode() in text for text in _entry_point_files()):
        return found
    from importlib.metadata import entry_points  # slow to load, and most installations have no such package

    for point in entry_points(group=group):
        value = point.load()
        if not isinstance(value, kind):
            fault = InputFault(group, f"{point.value} is a {type(value).__name__}, expected {kind.__name__}")
            raise InputError(f"entry point {point.name}", [fault])
        found.setdefault(point.name, value)
    return found


def _entry_point_files() -> Iterator[bytes]:
    """Yield the entry points of every installed package, unparsed (entry points specification of the PyPA)."""
    for folder in sys.path:
        for path in Path(folder or ".").glob("*.dist-info/entry_points.txt"):
            try:
                yield path.read_bytes()
            except OSError:
                continue  # removed between listing and reading
