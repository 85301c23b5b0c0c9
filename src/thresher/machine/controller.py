"""The management controller of this computer, by the kernel's own interface (kernel document driver-api/ipmi)."""

import ctypes
import fcntl
import os
import select
from typing import ClassVar

from thresher.model.controller_port import ControllerAnswer, ControllerCommand
from thresher.model.errors import SourceUnavailable

_DEVICE = "/dev/ipmi0"
_ANSWER_S = 6.0
_SEND, _RECEIVE = 0x8028690D, 0xC030690B
"""`IPMICTL_SEND_COMMAND` and `IPMICTL_RECEIVE_MSG_TRUNC` of <linux/ipmi.h>."""
_SYSTEM_INTERFACE, _BMC_CHANNEL = 0x0C, 0x0F
_MOST = 272


class _Address(ctypes.Structure):
    """`struct ipmi_system_interface_addr`."""

    _fields_: ClassVar = [("addr_type", ctypes.c_int), ("channel", ctypes.c_short), ("lun", ctypes.c_ubyte)]


class _Message(ctypes.Structure):
    """`struct ipmi_msg`."""

    _fields_: ClassVar = [
        ("netfn", ctypes.c_ubyte),
        ("cmd", ctypes.c_ubyte),
        ("data_len", ctypes.c_ushort),
        ("data", ctypes.c_void_p),
    ]


class _Request(ctypes.Structure):
    """`struct ipmi_req`."""

    _fields_: ClassVar = [
        ("addr", ctypes.c_void_p),
        ("addr_len", ctypes.c_uint),
        ("msgid", ctypes.c_long),
        ("msg", _Message),
    ]


class _Received(ctypes.Structure):
    """`struct ipmi_recv`."""

    _fields_: ClassVar = [
        ("recv_type", ctypes.c_int),
        ("addr", ctypes.c_void_p),
        ("addr_len", ctypes.c_uint),
        ("msgid", ctypes.c_long),
        ("msg", _Message),
    ]


class LiveController:
    """The controller, opened for asking; only what stands in `ControllerCommand` can be sent."""

    def __init__(self, path: str = _DEVICE) -> None:
        """Open it. Raises SourceUnavailable."""
        self.path = path
        try:
            self._fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        except FileNotFoundError as error:
            reason = "not there; the kernel module ipmi_devintf would change that, where there is a controller"
            raise SourceUnavailable(path, reason) from error
        except OSError as error:
            raise SourceUnavailable(path, error.strerror or str(error)) from error
        self._number = 0

    def ask(self, command: ControllerCommand, data: bytes = b"") -> ControllerAnswer:
        """Ask it, and wait for its answer."""
        netfn, number = command.value
        self._number += 1
        address = _Address(_SYSTEM_INTERFACE, _BMC_CHANNEL, 0)
        sent = ctypes.create_string_buffer(data, max(1, len(data)))
        message = _Message(netfn, number, len(data), ctypes.addressof(sent))
        request = _Request(ctypes.addressof(address), ctypes.sizeof(address), self._number, message)
        try:
            fcntl.ioctl(self._fd, _SEND, request)
            while True:
                if not select.select([self._fd], [], [], _ANSWER_S)[0]:
                    raise SourceUnavailable(self.path, f"the controller did not answer in {_ANSWER_S:.0f} s")
                received, answer = self._receive()
                if received.msgid == self._number:
                    break
        except OSError as error:
            raise SourceUnavailable(self.path, error.strerror or str(error)) from error
        if not answer:
            raise SourceUnavailable(self.path, "the controller sent an empty answer")
        return ControllerAnswer(answer[0], answer[1:])

    def _receive(self) -> tuple[_Received, bytes]:
        address, into = _Address(), ctypes.create_string_buffer(_MOST)
        message = _Message(0, 0, _MOST, ctypes.addressof(into))
        received = _Received(0, ctypes.addressof(address), ctypes.sizeof(address), 0, message)
        fcntl.ioctl(self._fd, _RECEIVE, received)
        return received, into.raw[: received.msg.data_len]

    def close(self) -> None:
        """Close the device."""
        os.close(self._fd)
