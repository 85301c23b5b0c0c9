"""Loads, steps and verbs from other installed packages, named by their entry points."""

from importlib.metadata import entry_points
from typing import TypeVar

from thresher.model.errors import InputError, InputFault

T = TypeVar("T")


def plugins(group: str, kind: type[T]) -> dict[str, T]:
    """Return what the entry points of a group name, by their names. Raises InputError for what is of another kind."""
    found: dict[str, T] = {}
    for point in entry_points(group=group):
        value = point.load()
        if not isinstance(value, kind):
            fault = InputFault(group, f"{point.value} is a {type(value).__name__}, expected {kind.__name__}")
            raise InputError(f"entry point {point.name}", [fault])
        found.setdefault(point.name, value)
    return found
