"""Giving up rights for good: the capabilities that a process keeps (capabilities(7), capset(2))."""

import ctypes
import os
from enum import IntEnum

_VERSION_3 = 0x20080522
_libc = ctypes.CDLL(None, use_errno=True)


class Capability(IntEnum):
    """Those that the helper is started with (<linux/capability.h>)."""

    DAC_OVERRIDE = 1
    SYS_RAWIO = 17
    SYS_PTRACE = 19
    SYS_ADMIN = 21
    SYS_RESOURCE = 24
    SYSLOG = 34


class _Header(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Set(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


def permitted() -> int:
    """Return the permitted capabilities of this process, a bit each. Raises OSError."""
    header, sets = _Header(_VERSION_3, 0), (_Set * 2)()
    if _libc.capget(ctypes.byref(header), ctypes.byref(sets)):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    return int(sets[0].permitted) | int(sets[1].permitted) << 32


def keep_only(*wanted: Capability) -> None:
    """Give up every capability but these, so far as this process has them. Raises OSError."""
    left = permitted() & sum(1 << each for each in wanted)
    header, sets = _Header(_VERSION_3, 0), (_Set * 2)()
    for half in (0, 1):
        bits = left >> 32 * half & 0xFFFFFFFF
        sets[half] = _Set(bits, bits, 0)
    if _libc.capset(ctypes.byref(header), ctypes.byref(sets)):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
