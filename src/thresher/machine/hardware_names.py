"""Names of makers and models from the hardware database of the running system.

The database belongs to udev and is asked through libudev's public functions (`udev_hwdb_new`,
`udev_hwdb_get_properties_list_entry`; libudev.h) by the modalias that the kernel gives a device. pyudev reports these
names only for devices of the running machine that udevd has seen; asked by modalias the same database names the
parts of a capture or a directory tree as well.
"""

import ctypes
import ctypes.util
from collections.abc import Callable
from typing import Any

_ENTRY = ctypes.c_void_p
_SIGNATURES: dict[str, tuple[list[Any], Any]] = {
    "udev_new": ([], ctypes.c_void_p),
    "udev_unref": ([ctypes.c_void_p], ctypes.c_void_p),
    "udev_hwdb_new": ([ctypes.c_void_p], ctypes.c_void_p),
    "udev_hwdb_unref": ([ctypes.c_void_p], ctypes.c_void_p),
    "udev_hwdb_get_properties_list_entry": ([ctypes.c_void_p, ctypes.c_char_p, ctypes.c_uint], _ENTRY),
    "udev_list_entry_get_next": ([_ENTRY], _ENTRY),
    "udev_list_entry_get_name": ([_ENTRY], ctypes.c_char_p),
    "udev_list_entry_get_value": ([_ENTRY], ctypes.c_char_p),
}
_MOST_ENTRIES = 1000


class HardwareNames:
    """The database, open. Call it with a modalias; `reason` says why it knows nothing, empty when it can be asked."""

    def __init__(self, find: Callable[[str], str | None] = ctypes.util.find_library) -> None:
        """Open the database; a system without one is noted in `reason` and names nothing."""
        self.reason = ""
        self._udev: int | None = None
        self._database: int | None = None
        name = find("udev")
        if name is None:
            self.reason = "libudev is not installed (Debian package libudev1)"
            return
        self._library = ctypes.CDLL(name)
        for function, (arguments, result) in _SIGNATURES.items():
            bound = getattr(self._library, function)
            bound.argtypes, bound.restype = arguments, result
        self._udev = self._library.udev_new()
        self._database = self._library.udev_hwdb_new(self._udev) if self._udev else None
        if not self._database:
            self.reason = "the hardware database is not installed (Debian package udev)"

    def __call__(self, modalias: str) -> dict[str, str]:
        """Return the properties that the database holds for a device; empty when it knows none."""
        if not self._database:
            return {}
        found: dict[str, str] = {}
        entry = self._library.udev_hwdb_get_properties_list_entry(self._database, modalias.encode(), 0)
        while entry and len(found) < _MOST_ENTRIES:
            name = self._library.udev_list_entry_get_name(entry)
            value = self._library.udev_list_entry_get_value(entry)
            found[(name or b"").decode("utf-8", "replace")] = (value or b"").decode("utf-8", "replace")
            entry = self._library.udev_list_entry_get_next(entry)
        return found

    def close(self) -> None:
        """Close the database; closing twice does nothing."""
        if self._database:
            self._library.udev_hwdb_unref(self._database)
        if self._udev:
            self._library.udev_unref(self._udev)
        self._database = self._udev = None
