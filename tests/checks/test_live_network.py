"""The network of this computer: a virtual cable into a name space, a name server and pages of the test's own."""

import os
import socket
import threading
from collections.abc import Iterator
from contextlib import closing
from http.server import BaseHTTPRequestHandler, HTTPServer

import dns.message
import dns.rcode
import dns.rrset
import pytest
from pyroute2 import IPRoute, NetNS, netns
from pyroute2.netlink.exceptions import NetlinkError

from thresher.checks.network.way import echo
from thresher.machine.network import LiveNetwork, echo_packet
from thresher.model.errors import SourceUnavailable

HERE, THERE = "10.211.7.1", "10.211.7.2"
_SPACE = f"thresher-{os.getpid()}"


@pytest.fixture(scope="module")
def cable() -> Iterator[IPRoute]:
    """A cable from here to a machine of its own, which answers as the kernel does."""
    if os.geteuid() != 0:
        pytest.skip("only root can make name spaces")
    name = f"th{os.getpid() % 100000}"
    with IPRoute() as route:
        try:
            netns.create(_SPACE)
            route.link("add", ifname=name, kind="veth", peer={"ifname": "away", "net_ns_fd": _SPACE})
        except (OSError, NetlinkError) as error:
            pytest.skip(f"no virtual cable here: {error}")
        try:
            (mine,) = route.link_lookup(ifname=name)
            route.addr("add", index=mine, address=HERE, prefixlen=24)
            route.link("set", index=mine, state="up")
            with NetNS(_SPACE) as space:
                (theirs,) = space.link_lookup(ifname="away")
                space.addr("add", index=theirs, address=THERE, prefixlen=24)
                space.link("set", index=theirs, state="up")
            yield route
            route.link("del", index=mine)
        finally:
            netns.remove(_SPACE)


def test_addresses_and_echoes_of_a_real_cable(cable: IPRoute) -> None:
    del cable
    network = LiveNetwork()
    assert any((each.address, each.prefix) == (HERE, 24) for each in network.addresses())
    times = [network.ping(THERE, 2.0, size) for size in (56, 1400, 56)]
    assert all(each is not None and 0 < each < 1000 for each in times), times
    assert network.ping("10.211.7.9", 0.3) is None, "nobody has this address"


def test_the_steps_of_the_checks_count_what_came_back(cable: IPRoute) -> None:
    del cable
    network = LiveNetwork()
    steps = echo(network, THERE, 5, (0.0, 1.0))
    reply: object = None
    while True:
        try:
            request = steps.send(reply)
        except StopIteration as done:
            echoes = done.value
            break
        reply = request.work() if hasattr(request, "work") else None
    assert (echoes.sent, echoes.loss) == (5, 0.0)


def test_who_may_not_send_is_told_what_would_change_that(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_arguments: object) -> socket.socket:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(socket, "socket", refuse)
    with pytest.raises(SourceUnavailable, match="ping_group_range"):
        LiveNetwork().ping("127.0.0.1", 0.1)


def test_an_echo_request_is_as_the_standard_has_it() -> None:
    """RFC 792 with the sum of RFC 1071, worked out by hand: 0800 + 1234 + 0001 + 6162 = 7B97, complement 8468."""
    assert echo_packet(socket.AF_INET, 0x1234, b"ab").hex() == "0800846812340001" + "6162"


def _serve_names(socket_: socket.socket) -> None:
    while True:
        try:
            data, sender = socket_.recvfrom(4096)
        except OSError:
            return
        question = dns.message.from_wire(data)
        answer = dns.message.make_response(question)
        name = question.question[0].name
        if str(name).startswith("quay."):
            answer.answer.append(dns.rrset.from_text(name, 60, "IN", "A", "192.0.2.17"))
        else:
            answer.set_rcode(dns.rcode.NXDOMAIN)
        socket_.sendto(answer.to_wire(), sender)


def test_a_name_server_is_asked_and_its_answer_read(cable: IPRoute) -> None:
    del cable
    with closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as listening:
        listening.bind((HERE, 53))
        thread = threading.Thread(target=_serve_names, args=(listening,), daemon=True)
        thread.start()
        network = LiveNetwork()
        right = network.look_up(HERE, "quay.example", 5.0)
        absent = network.look_up(HERE, "nothing.invalid", 5.0)
    assert right is not None
    assert (right.addresses, right.code) == (("192.0.2.17",), "NOERROR")
    assert absent is not None
    assert (absent.addresses, absent.code) == ((), "NXDOMAIN")
    assert network.look_up(THERE, "quay.example", 0.3) is None, "no name server listens there"


class _Pages(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        if self.path == "/away":
            self.send_response(302)
            self.send_header("Location", "http://sign-in.example/")
            self.end_headers()
            return
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"<title>Example Domain</title>")

    def log_message(self, *_arguments: object) -> None:
        """Say nothing."""


def test_a_page_is_fetched_and_not_followed_elsewhere() -> None:
    with HTTPServer(("127.0.0.1", 0), _Pages) as server:
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        base, network = f"http://127.0.0.1:{server.server_port}", LiveNetwork()
        page, elsewhere = network.fetch(f"{base}/", 5.0), network.fetch(f"{base}/away", 5.0)
        server.shutdown()
    assert page is not None
    assert (page.status, "Example Domain" in page.text) == (200, True)
    assert elsewhere is not None
    assert (elsewhere.status, elsewhere.location) == (302, "http://sign-in.example/")
    assert network.fetch("http://127.0.0.1:9/", 0.5) is None
