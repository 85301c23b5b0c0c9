"""Reading the project's TOML formats: the format line, typed sections, and all faults at once."""

import dataclasses
import difflib
import math
import tomllib
from collections.abc import Mapping
from typing import TypeVar, get_args, get_type_hints

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
    """Convert plain data to a typed value; on a fault append it with its place and return None.

    Fields that nobody reads are faults, and so are numbers that are none: a misspelt limit must not be ignored.
    """
    known = len(faults)
    _check_fields(data, kind, place, faults)
    if len(faults) > known:
        return None
    try:
        return msgspec.convert(data, kind, strict=True)
    except msgspec.ValidationError as error:
        message, _, inner = str(error).partition(" - at `$")
        faults.append(InputFault(place + inner.rstrip("`"), message))
        return None


def _check_fields(data: object, kind: object, place: str, faults: list[InputFault]) -> None:
    """Append a fault for every field of plain data that a type does not have, and for every number that is none."""
    if isinstance(data, float) and not math.isfinite(data):
        faults.append(InputFault(place, f"expected a number, found {data}"))
    elif isinstance(data, dict):
        fields = _fields_of(kind)
        for key, value in data.items():
            inner = f"{place}.{key}" if place else str(key)
            if fields is not None and key not in fields:
                near = difflib.get_close_matches(str(key), fields, 1, 0.5)
                hint = f"; did you mean {near[0]}?" if near else f"; known are {', '.join(sorted(fields))}"
                faults.append(InputFault(inner, f"nothing of this name is known{hint}"))
            else:
                _check_fields(value, fields[key] if fields is not None else object, inner, faults)
    elif isinstance(data, list):
        element = next(iter(get_args(kind)), object)
        for number, value in enumerate(data):
            _check_fields(value, element, f"{place}[{number}]", faults)


def _fields_of(kind: object) -> dict[str, object] | None:
    """Return the fields of a dataclass, also where it is optional; None for another type."""
    for each in (kind, *get_args(kind)):
        if isinstance(each, type) and dataclasses.is_dataclass(each):
            return get_type_hints(each)
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
