"""Wired interfaces: link, speed, duplex, and errors while traffic flows."""

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, beside, progress
from thresher.checks.network.interfaces import COUNTED, Interface, counts, has_network, interfaces
from thresher.checks.network.way import echo
from thresher.model.checks import CheckResult, Figure
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.network_port import NetworkPort
from thresher.model.parts import PartKind

_LEAST_MBIT = 1000
_ECHOES, _SIZE = 30, 1400
"""Large packets, so that a cable that errs once in a million bits shows."""


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("looking at the interfaces", 0.0)
    wired = [each for each in (yield from beside(lambda: interfaces(bench.system))) if not each.wireless]
    if not wired:
        return (CHECK.unclear("there is no wired network adapter"),)
    linked = [each for each in wired if each.carrier]
    results = [
        CHECK.unclear("no cable is plugged in, or nothing answers at its other end", place=each.name)
        for each in wired
        if not each.carrier
    ]
    for each in linked:
        result = yield from _judge(bench, each)
        results.append(result)
    return tuple(results)


def _judge(bench: CheckBench, one: Interface) -> Steps[CheckResult]:
    figures = [
        Figure("speed", one.speed_mbit, "Mbit/s", _LEAST_MBIT, None, "what adapters of today can"),
        Figure("duplex", words=one.duplex or "not reported"),
    ]
    if one.duplex == "half":
        why = "half duplex: one end does not negotiate, or a pair of the cable is broken"
        return CHECK.failed(why, *figures, place=one.name)
    if one.speed_mbit is not None and one.speed_mbit < 100:
        return CHECK.failed(f"only {one.speed_mbit} Mbit/s: the cable or a plug", *figures, place=one.name)
    before = yield from beside(lambda: counts(bench.system, one.name))
    try:
        flows = yield from _traffic(bench.system.open_network(), one.name)
    except SourceUnavailable:
        flows = False
    after = yield from beside(lambda: counts(bench.system, one.name))
    grown = {name: after[name] - before[name] for name in COUNTED if after.get(name, 0) > before.get(name, 0)}
    bad = sum(grown.values())
    moved = sum(after.get(each, 0) - before.get(each, 0) for each in ("rx_packets", "tx_packets"))
    figures.append(Figure("errors while traffic flows", bad, "", None, 0, "none is usual on a sound cable"))
    figures.append(Figure("packets", moved))
    if bad:
        words = ", ".join(f"{name.replace('_', ' ')} {count}" for name, count in grown.items())
        return CHECK.failed(f"{words} in {moved} packets: the cable, a plug or the port", *figures, place=one.name)
    if one.speed_mbit is not None and one.speed_mbit < _LEAST_MBIT:
        why = f"{one.speed_mbit} Mbit/s: fine for an old router; on a newer one a pair of the cable is broken"
        return CHECK.unclear(why, *figures, place=one.name)
    if not flows:
        return CHECK.unclear("the link is up, and nothing to talk to was found", *figures, place=one.name)
    return CHECK.passed("the link is up at full speed, and traffic flows without errors", *figures, place=one.name)


def _traffic(network: NetworkPort, name: str) -> Steps[bool]:
    gateway = next((each for each in (yield from beside(network.gateways)) if each.interface == name), None)
    if gateway is None:
        return False
    came = yield from echo(network, gateway.address, _ECHOES, (0.1, 0.9), _SIZE)
    return bool(came.times)


CHECK = Check(
    name="network cable",
    row=PartKind.NETWORK,
    about=(
        "A network cable has four pairs of wires. With one broken the network works on, at a tenth of its speed; with"
        " a bad contact it loses packets. The speed that both ends agreed on tells, and the errors that the adapter"
        " counts while large packets flow."
    ),
    finds="a cable or plug with a broken pair or a bad contact",
    misses="faults beyond the next device",
    usual_s=12.0,
    run=_run,
    parts=(PartKind.NETWORK,),
    kind=FindingKind.NETWORK_LINK,
    code="N-110",
    worth_min=30.0,
    there=has_network,
)
