"""The network of this computer: rtnetlink and nl80211, echo requests, name servers, HTTP.

Netlink by the kernel documents userspace-api/netlink and networking; echo requests over the kernel's own ICMP sockets
(kernel document networking/ip-sysctl, ping_group_range), which need no more rights than it grants.
"""

import contextlib
import errno
import http.client
import os
import socket
import struct
import time
import urllib.parse
from collections.abc import Iterator
from typing import Any

from thresher.machine.bluetooth import read_adapter
from thresher.machine.network_manager import read_wireless
from thresher.model.errors import SourceUnavailable
from thresher.model.network_port import Address, BluetoothState, Fetched, Gateway, LookedUp, Neighbour, WirelessState

_ECHO: dict[int, int] = {socket.AF_INET: 8, socket.AF_INET6: 128}
_REPLY: dict[int, int] = {socket.AF_INET: 0, socket.AF_INET6: 129}
"""Types of echo request and echo reply (RFC 792, RFC 4443)."""
_LOOPBACK_SCOPE = 254
_MOST_TEXT = 4096


class LiveNetwork:
    """Answers for this computer, in the network name space that it runs in."""

    def addresses(self) -> tuple[Address, ...]:
        """Return all addresses but those of the loopback."""
        with _route() as route:
            names = _names(route)
            return tuple(
                Address(names.get(each["index"], str(each["index"])), each.get("address"), each["prefixlen"])
                for each in route.get_addr()
                if each["scope"] != _LOOPBACK_SCOPE and each.get("address")
            )

    def gateways(self) -> tuple[Gateway, ...]:
        """Return the default routes, the preferred one first."""
        with _route() as route:
            names = _names(route)
            found = [*route.get_default_routes(family=socket.AF_INET), *_default_routes_of_ip6(route)]
            found.sort(key=lambda each: (each["family"], each.get("priority") or 0))
            return tuple(
                Gateway(names.get(each.get("oif"), ""), each.get("gateway")) for each in found if each.get("gateway")
            )

    def ping(self, address: str, seconds: float, size: int = 56) -> float | None:
        """Send one echo request and return the round trip in ms, None when nothing came back in time."""
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        sending = _echo_socket(family, address)
        with sending:
            mark = os.urandom(8)
            packet = echo_packet(family, os.getpid() & 0xFFFF, mark + bytes(max(0, size - len(mark))))
            begun = time.perf_counter()
            try:
                sending.sendto(packet, (address, 0))
                while (left := begun + seconds - time.perf_counter()) > 0:
                    sending.settimeout(left)
                    came = sending.recv(size + 128)
                    if _REPLY[family] == _type_of(came, family, sending.type) and mark in came:
                        return (time.perf_counter() - begun) * 1000.0
            except TimeoutError:
                return None
            except OSError as error:
                if error.errno in (errno.ENETUNREACH, errno.EHOSTUNREACH, errno.ECONNREFUSED, errno.ENETDOWN):
                    return None
                raise SourceUnavailable(f"echo request to {address}", os.strerror(error.errno or 0)) from error
        return None

    def look_up(self, server: str, name: str, seconds: float) -> LookedUp | None:
        """Ask a name server for the addresses of a name."""
        import dns.exception
        import dns.message
        import dns.query
        import dns.rcode

        question = dns.message.make_query(name, "A")
        begun = time.perf_counter()
        try:
            answer = dns.query.udp(question, server, timeout=seconds)
        except (dns.exception.DNSException, OSError):
            return None
        taken = (time.perf_counter() - begun) * 1000.0
        found = [item.to_text() for rows in answer.answer for item in rows if item.rdtype == 1]
        return LookedUp(tuple(found), dns.rcode.to_text(answer.rcode()), taken)

    def fetch(self, url: str, seconds: float) -> Fetched | None:
        """Fetch a page without following it elsewhere."""
        parts = urllib.parse.urlsplit(url)
        connection = http.client.HTTPConnection(parts.hostname or "", parts.port or 80, timeout=seconds)
        try:
            connection.request("GET", parts.path or "/", headers={"Connection": "close"})
            answer = connection.getresponse()
            text = answer.read(_MOST_TEXT).decode("utf-8", "replace")
            return Fetched(answer.status, answer.getheader("Location", "") or "", text)
        except (OSError, http.client.HTTPException):
            return None
        finally:
            connection.close()

    def bluetooth(self, adapter: str) -> BluetoothState | None:
        """Return the state of a Bluetooth adapter."""
        return read_adapter(adapter)

    def wireless(self, interface: str) -> WirelessState | None:
        """Return what a wireless interface is connected to: by nl80211, and what that leaves open by a manager."""
        by_kernel, by_manager = self._by_kernel(interface), read_wireless(interface)
        if by_kernel is None or by_manager is None:
            return by_kernel or by_manager
        return WirelessState(
            interface,
            by_kernel.network or by_manager.network,
            by_kernel.mhz or by_manager.mhz,
            by_kernel.dbm if by_kernel.dbm is not None else by_manager.dbm,
            by_kernel.rate_mbit or by_manager.rate_mbit,
            by_kernel.neighbours or by_manager.neighbours,
        )

    def _by_kernel(self, interface: str) -> WirelessState | None:
        from pyroute2 import IW
        from pyroute2.netlink.exceptions import NetlinkError

        try:
            index = socket.if_nametoindex(interface)
            with IW() as wireless:
                own = next((each for each in wireless.get_interfaces_dump() if each.get_attr(_IFINDEX) == index), None)
                if own is None:
                    return None
                stations = list(wireless.get_stations(index))
                neighbours = tuple(_neighbours(wireless.scan_results(index)))
        except (OSError, NetlinkError):
            return None
        info = stations[0].get_attr("NL80211_ATTR_STA_INFO") if stations else None
        signal = info.get_attr("NL80211_STA_INFO_SIGNAL") if info is not None else None
        rate = info.get_attr("NL80211_STA_INFO_TX_BITRATE") if info is not None else None
        bits = rate.get_attr("NL80211_RATE_INFO_BITRATE32") if rate is not None else None
        return WirelessState(
            interface,
            _text(own.get_attr("NL80211_ATTR_SSID")),
            own.get_attr("NL80211_ATTR_WIPHY_FREQ"),
            _signed(signal),
            bits / 10.0 if bits else None,
            neighbours,
        )


def _echo_socket(family: int, address: str) -> socket.socket:
    """Return a socket for echo requests: the kernel's own kind, else a raw one. Raises SourceUnavailable."""
    protocol = socket.IPPROTO_ICMPV6 if family == socket.AF_INET6 else socket.IPPROTO_ICMP
    try:
        return socket.socket(family, socket.SOCK_DGRAM, protocol)
    except PermissionError:
        pass
    try:
        return socket.socket(family, socket.SOCK_RAW, protocol)
    except PermissionError as error:
        why = "not allowed; set net.ipv4.ping_group_range to this user's group, or start as root"
        raise SourceUnavailable(f"echo request to {address}", why) from error


def echo_packet(family: int, identifier: int, content: bytes) -> bytes:
    """Return an echo request with its checksum (RFC 792, RFC 1071); for IPv6 the kernel works it out."""
    head = struct.pack("!BBHHH", _ECHO[family], 0, 0, identifier, 1)
    if family == socket.AF_INET6:
        return head + content
    data = head + content + bytes(len(content) % 2)
    total = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return struct.pack("!BBHHH", _ECHO[family], 0, ~total & 0xFFFF, identifier, 1) + content


def _type_of(packet: bytes, family: int, kind: int) -> int | None:
    """Return the type of an ICMP message; a raw socket of IPv4 hands over the header before it (RFC 791)."""
    at = (packet[0] & 0x0F) * 4 if packet and family == socket.AF_INET and kind == socket.SOCK_RAW else 0
    return packet[at] if len(packet) > at else None


_IFINDEX = "NL80211_ATTR_IFINDEX"


@contextlib.contextmanager
def _route() -> Iterator[Any]:
    """Open rtnetlink. Raises SourceUnavailable."""
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    try:
        with IPRoute() as route:
            yield route
    except (OSError, NetlinkError) as error:
        raise SourceUnavailable("rtnetlink", str(error)) from error


def _names(route: Any) -> dict[int, str]:
    return {each["index"]: each.get("ifname") for each in route.get_links()}


def _default_routes_of_ip6(route: Any) -> list[Any]:
    return [each for each in route.get_routes(family=socket.AF_INET6) if each["dst_len"] == 0 and each.get("gateway")]


def _neighbours(results: Any) -> Iterator[Neighbour]:
    for each in results:
        bss = each.get_attr("NL80211_ATTR_BSS")
        if bss is None:
            continue
        elements = bss.get_attr("NL80211_BSS_INFORMATION_ELEMENTS") or {}
        mbm = bss.get_attr("NL80211_BSS_SIGNAL_MBM")
        if isinstance(mbm, dict):
            mbm = mbm.get("VALUE")
        value = float(mbm) if isinstance(mbm, int | float) else None
        if value is not None:
            yield Neighbour(_text(elements.get("SSID")), int(bss.get_attr("NL80211_BSS_FREQUENCY") or 0), value / 100.0)


def _text(value: object) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value or "")


def _signed(value: object) -> float | None:
    """Return a signal in dBm: the kernel gives a byte with a sign."""
    if not isinstance(value, int):
        return None
    return float(value - 256 if value > 127 else value)
