"""Bluetooth adapters of this computer, by the kernel's own socket (net/bluetooth/hci_sock.h of the kernel)."""

import fcntl
import socket
import struct

from thresher.model.errors import SourceUnavailable
from thresher.model.network_port import BluetoothState

_GET_INFO = 0x800448D3
"""`HCIGETDEVINFO`: fills `struct hci_dev_info` for the number that stands at its start."""
_INFO = struct.Struct("@H8s6sIB8sIIIHHHH10I")
"""Number, name, address with its last byte first, flags, type, features, packet types, link policy and mode, four sizes
of packets, and ten counters that begin with errors received and sent."""
_UP = 0x1


def read_adapter(adapter: str) -> BluetoothState | None:
    """Return the state of an adapter, None when it does not answer. Raises SourceUnavailable."""
    try:
        number = int(adapter.removeprefix("hci"))
        with socket.socket(socket.AF_BLUETOOTH, socket.SOCK_RAW, socket.BTPROTO_HCI) as sock:
            asked = bytearray(256)
            struct.pack_into("@H", asked, 0, number)
            fcntl.ioctl(sock.fileno(), _GET_INFO, asked)
    except (AttributeError, ValueError) as error:
        raise SourceUnavailable(adapter, "this system speaks no Bluetooth") from error
    except OSError as error:
        if error.errno in (19, 6):  # ENODEV, ENXIO
            return None
        raise SourceUnavailable(adapter, error.strerror or str(error)) from error
    return parse_info(bytes(asked))


def parse_info(info: bytes) -> BluetoothState:
    """Return the state of an adapter from `struct hci_dev_info`."""
    fields = _INFO.unpack_from(info)
    address = ":".join(f"{byte:02X}" for byte in reversed(fields[2]))
    received, sent = fields[13:15]
    return BluetoothState(address, bool(fields[3] & _UP), received + sent)
