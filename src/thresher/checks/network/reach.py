"""Address and router: whether this machine has an address, and whether its router answers."""

import ipaddress

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.checks.network.interfaces import has_network, interfaces
from thresher.checks.network.way import MOST_MS, echo
from thresher.model.checks import Figure
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.network_port import Address
from thresher.model.parts import PartKind

_ECHOES = 20


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("reading addresses and routes", 0.0)
    try:
        network = bench.system.open_network()
        addresses = yield from beside(network.addresses)
        gateways = yield from beside(network.gateways)
    except SourceUnavailable as error:
        return (CHECK.unclear(str(error)),)
    if not any(each.carrier for each in (yield from beside(lambda: interfaces(bench.system)))):
        return (CHECK.unclear("no interface has a link: plug a cable in, or join a wireless network"),)
    figures = [Figure(each.interface, words=f"{each.address}/{each.prefix}") for each in addresses]
    usable = [each for each in addresses if not _given_to_itself(each)]
    if not usable:
        why = "the machine got no address: nothing in this network hands them out, or the cable does not reach it"
        return (CHECK.failed(why, *figures),)
    if not gateways:
        return (CHECK.failed("there is an address and no router: set one, or let the network hand it out", *figures),)
    gateway = gateways[0]
    figures.append(Figure("router", words=f"{gateway.address} by {gateway.interface}"))
    try:
        came = yield from echo(network, gateway.address, _ECHOES, (0.1, 1.0))
    except SourceUnavailable as error:
        return (CHECK.unclear(str(error), *figures),)
    figures += came.figures("router")
    if not came.times:
        why = "the router does not respond: it is off, at another address, or blocks echo requests"
        return (CHECK.failed(why, *figures),)
    broken = [each for each in figures if not each.within]
    if broken:
        slow = any(each.high == MOST_MS for each in broken)
        why = "the router responds slowly" if slow else f"{came.loss:.0f} % of the echo requests to the router are lost"
        return (CHECK.failed(f"{why}: cable, radio or router", *figures),)
    return (CHECK.passed("it has an address, and the router responds without loss", *figures),)


def _given_to_itself(address: Address) -> bool:
    """Whether nobody gave this address: link-local (RFC 3927, RFC 4291)."""
    try:
        return ipaddress.ip_address(address.address).is_link_local
    except ValueError:
        return True


CHECK = Check(
    name="router",
    row=PartKind.NETWORK,
    about=(
        "A machine needs an address, and a router that passes its packets on. The router is asked twenty times: every"
        " answer must come, and quickly."
    ),
    finds="no address, no router, a router that loses packets",
    misses="what is wrong beyond the router",
    usual_s=8.0,
    run=_run,
    parts=(PartKind.NETWORK,),
    kind=FindingKind.NETWORK_WAY,
    code="N-120",
    worth_min=30.0,
    there=has_network,
)
