"""Reading the project's TOML formats: the format line, typed sections, and all faults at once."""

import tomllib
from collections.abc import Mapping
from typing import TypeVar

import msgspec

from thresher.model.errors import InputError, InputFault

T = TypeVar("T")


def parse_toml(text: str, source: str, expected_format: str, older: tuple[str, ...] = ()) -> dict[str, object]:
    """Parse TOML and check its `format` line; `older` names of the format are still read.

    Raises InputError that names `source` and the place.
    """
    try:
        data: dict[str, object] = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(source, [InputFault("TOML", str(error))]) from error
    except (RecursionError, ValueError) as error:  # numbers of thousands of digits are no TOMLDecodeError
        message = "it is nested too deep" if isinstance(error, RecursionError) else str(error)[:120]
        raise InputError(source, [InputFault("TOML", message)]) from error
    found = data.get("format")
    if found != expected_format and found not in older:
        message = f'expected format = "{expected_format}", found {found!r}'
        raise InputError(source, [InputFault("format", message)])
    return data


def convert_section(data: object, kind: type[T], place: str, faults: list[InputFault]) -> T | None:
    """Convert plain data to a typed value; on a fault append it with its place and return None."""
    try:
        return msgspec.convert(data, kind, strict=True)
    except msgspec.ValidationError as error:
        message, _, inner = str(error).partition(" - at `$")
        faults.append(InputFault(place + inner.rstrip("`"), message))
        return None


def convert_list(data: Mapping[str, object], name: str, kind: type[T], faults: list[InputFault]) -> list[T]:
    """Convert an array of tables, collecting the faults of every entry."""
    entries = data.get(name, [])
    if not isinstance(entries, list):
        faults.append(InputFault(name, f"expected an array of tables [[{name}]], found {type(entries).__name__}"))
        return []
    converted = [convert_section(entry, kind, f"{name}[{index}]", faults) for index, entry in enumerate(entries)]
    return [entry for entry in converted if entry is not None]


def unknown_keys(data: Mapping[str, object], known: set[str], faults: list[InputFault]) -> None:
    """Append a fault for every top-level key that nobody reads, so that a misspelt one is not ignored."""
    names = ", ".join(sorted(known))
    faults += [
        InputFault(key, f"nothing of this name is known; known are {names}") for key in sorted(set(data) - known)
    ]
