"""Cards by EGL: which there are, and a context on one of them without a window (EGL 1.5, khronos.org/registry/EGL).

The context is made here, not by moderngl: only one that asked for it is told that the card was reset
(`EGL_CONTEXT_OPENGL_RESET_NOTIFICATION_STRATEGY`). Nothing here loads EGL before it is asked to.
"""

import ctypes
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from thresher.model.errors import SourceUnavailable

_SOURCE = "libEGL.so.1"
_MOST_DEVICES = 32
_NONE = 0x3038
_EXTENSIONS, _DRM_NODE, _DRM_RENDER_NODE = 0x3055, 0x3233, 0x3377
_PLATFORM_DEVICE = 0x313F
_SURFACE_TYPE, _PBUFFER, _RENDERABLE, _OPENGL_BIT, _OPENGL_API = 0x3033, 1, 0x3040, 8, 0x30A2
_CONTEXT = (0x3098, 4, 0x30FB, 3, 0x30FD, 1, 0x31B2, 1, 0x31BD, 0x31BF, _NONE)
"""OpenGL 4.3, core profile, robust access, told of a reset and lost by it."""
_SOFTWARE = "EGL_MESA_device_software"
_PCI = re.compile(r"[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]")

_RESETS = {
    0x8253: "the card was reset, by this work",
    0x8254: "the card was reset, by other work",
    0x8255: "the card was reset",
}
"""GL_GUILTY_CONTEXT_RESET, GL_INNOCENT_CONTEXT_RESET, GL_UNKNOWN_CONTEXT_RESET."""


@dataclass(frozen=True, slots=True)
class CardDevice:
    """A device that EGL offers: its place in the list, its DRM nodes and PCI address where it has them.

    `software` marks a renderer that computes on the processor: no card is tested by it.
    """

    index: int
    software: bool
    node: str = ""
    render_node: str = ""
    pci: str = ""


class _Egl:
    """The library with the functions that are used."""

    def __init__(self) -> None:
        try:
            self.library = ctypes.CDLL(_SOURCE)
        except OSError as error:
            why = "OpenGL is not installed here; the Debian packages libegl1 and libgl1 would change that"
            raise SourceUnavailable(_SOURCE, why) from error
        self.library.eglGetProcAddress.restype = ctypes.c_void_p
        for name, kinds in (
            ("eglInitialize", (_P, ctypes.POINTER(_I), ctypes.POINTER(_I))),
            ("eglChooseConfig", (_P, ctypes.POINTER(_I), ctypes.POINTER(_P), _I, ctypes.POINTER(_I))),
            ("eglMakeCurrent", (_P, _P, _P, _P)),
            ("eglDestroyContext", (_P, _P)),
            ("eglTerminate", (_P,)),
        ):
            getattr(self.library, name).argtypes = kinds
        self.library.eglCreateContext.restype = _P
        self.library.eglCreateContext.argtypes = (_P, _P, _P, ctypes.POINTER(_I))

    def function(self, name: str, result: Any, *arguments: Any) -> Any:
        """Return a function of an extension, None where it is not offered."""
        address = self.library.eglGetProcAddress(name.encode())
        return ctypes.CFUNCTYPE(result, *arguments)(address) if address else None


_P, _I = ctypes.c_void_p, ctypes.c_int


def _handles(egl: _Egl) -> list[int]:
    query = egl.function("eglQueryDevicesEXT", _I, _I, ctypes.POINTER(_P), ctypes.POINTER(_I))
    if query is None:
        raise SourceUnavailable(_SOURCE, "this EGL cannot list devices (EGL_EXT_device_enumeration)")
    found, count = (_P * _MOST_DEVICES)(), _I()
    if not query(_MOST_DEVICES, found, ctypes.byref(count)):
        raise SourceUnavailable(_SOURCE, "EGL could not list its devices")
    return [int(each) for each in found[: count.value] if each]


def card_devices() -> tuple[CardDevice, ...]:
    """Return what EGL offers here, software renderers last. Raises SourceUnavailable.

    Drivers are loaded for that, which may hang on a sick card: only in a process that may be killed.
    """
    egl = _Egl()
    told = egl.function("eglQueryDeviceStringEXT", ctypes.c_char_p, _P, _I)
    found = []
    for index, handle in enumerate(_handles(egl)):
        extensions = _text(told, handle, _EXTENSIONS).split()
        drm = "EGL_EXT_device_drm" in extensions
        node = _text(told, handle, _DRM_NODE) if drm else ""
        render = _text(told, handle, _DRM_RENDER_NODE) if "EGL_EXT_device_drm_render_node" in extensions else ""
        software = _SOFTWARE in extensions
        found.append(CardDevice(index, software, node, render, "" if software else pci_of(node or render)))
    return tuple(sorted(found, key=lambda each: each.software))


def _text(told: Any, handle: int, what: int) -> str:
    found: bytes | None = told(handle, what) if told is not None else None
    return found.decode("utf-8", "replace") if found else ""


def pci_of(node: str, sysfs: Path = Path("/sys/class/drm")) -> str:
    """Return the PCI address of a DRM node such as /dev/dri/card0, empty where it has none."""
    if not node:
        return ""
    try:
        device = (sysfs / Path(node).name / "device").resolve()
    except OSError:
        return ""
    return device.name if _PCI.fullmatch(device.name) else ""


class CardContext:
    """An OpenGL context on one device, current in the thread that made it."""

    def __init__(self, device: CardDevice) -> None:
        """Make it. Raises SourceUnavailable."""
        self.device = device
        egl = self._egl = _Egl()
        handle = _handles(egl)[device.index]
        display = egl.function("eglGetPlatformDisplayEXT", _P, ctypes.c_uint, _P, ctypes.POINTER(_I))
        self._display = display(_PLATFORM_DEVICE, handle, None) if display is not None else None
        major, minor = _I(), _I()
        if not self._display or not egl.library.eglInitialize(self._display, ctypes.byref(major), ctypes.byref(minor)):
            raise SourceUnavailable(_SOURCE, "the driver of this card does not start")
        egl.library.eglBindAPI(_OPENGL_API)
        wanted = (_I * 5)(_SURFACE_TYPE, _PBUFFER, _RENDERABLE, _OPENGL_BIT, _NONE)
        config, count = _P(), _I()
        egl.library.eglChooseConfig(self._display, wanted, ctypes.byref(config), 1, ctypes.byref(count))
        self._context = egl.library.eglCreateContext(self._display, config, None, (_I * len(_CONTEXT))(*_CONTEXT))
        if not self._context or not egl.library.eglMakeCurrent(self._display, None, None, self._context):
            raise SourceUnavailable(_SOURCE, f"no OpenGL 4.3 on this card (error 0x{egl.library.eglGetError():04x})")
        self._reset_status = egl.function("glGetGraphicsResetStatus", ctypes.c_uint)

    def reset(self) -> str:
        """Return in words whether the card was reset since the last call, empty if not."""
        status = int(self._reset_status()) if self._reset_status is not None else 0
        return "" if not status else _RESETS.get(status, f"the card was reset (status 0x{status:04x})")

    def close(self) -> None:
        """Give the context back."""
        library = self._egl.library
        library.eglMakeCurrent(self._display, None, None, None)
        library.eglDestroyContext(self._display, self._context)
        library.eglTerminate(self._display)
