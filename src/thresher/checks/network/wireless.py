"""Wireless: network, signal, channel and who else is on it, rate."""

from functools import partial

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.checks.network.interfaces import interfaces
from thresher.inventory.devices import WIRELESS
from thresher.model.checks import CheckResult, Figure
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.network_port import WirelessState
from thresher.model.parts import Inventory, PartKind

_LEAST_DBM = -75.0
"""Below this a radio of today falls back to its slowest rates; the makers' judgement."""
_NEAR_DBM = -70.0
_CHANNEL_MHZ = 20
_CROWDED = 3


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("looking at the radio", 0.0)
    radios = [each for each in (yield from beside(lambda: interfaces(bench.system))) if each.wireless]
    if not radios:
        return (CHECK.unclear("there is no wireless adapter"),)
    try:
        network = bench.system.open_network()
    except SourceUnavailable as error:
        return (CHECK.unclear(str(error)),)
    results: list[CheckResult] = []
    for radio in radios:
        state = yield from beside(partial(network.wireless, radio.name))
        if state is None or not state.network:
            missing = "it has joined no network, or is switched off; join one first"
            results.append(CHECK.unclear(missing, place=radio.name))
        else:
            results.append(_judge(state))
    return tuple(results)


def _judge(state: WirelessState) -> CheckResult:
    beside_it = [
        each
        for each in state.neighbours
        if state.mhz is not None
        and each.name != state.network
        and abs(each.mhz - state.mhz) < _CHANNEL_MHZ
        and each.dbm >= _NEAR_DBM
    ]
    figures = [Figure("network", words=state.network)]
    if state.mhz is not None:
        figures.append(Figure("channel", words=f"{_channel(state.mhz)} ({state.mhz} MHz)"))
    if state.rate_mbit is not None:
        figures.append(Figure("rate", state.rate_mbit, "Mbit/s"))
    figures.append(Figure("strong neighbours on the channel", len(beside_it)))
    place = state.interface
    if state.dbm is None:
        return CHECK.unclear("the driver does not report the signal", *figures, place=place)
    signal = Figure("signal", round(state.dbm), "dBm", _LEAST_DBM, None, "judgement")
    if not signal.within:
        why = "the signal is weak. Measure next to the router: if it stays weak, an antenna cable is off"
        return CHECK.failed(why, signal, *figures, place=place)
    if len(beside_it) >= _CROWDED:
        why = f"the signal is good; {len(beside_it)} strong neighbours share the channel: choose another on the router"
        return CHECK.passed(why, signal, *figures, place=place)
    return CHECK.passed("the signal is good", signal, *figures, place=place)


def _channel(mhz: int) -> int:
    """Return the channel's number (IEEE 802.11-2020, Annex E)."""
    if mhz == 2484:
        return 14
    if mhz < 3000:
        return (mhz - 2407) // 5
    return (mhz - (5950 if mhz >= 5955 else 5000)) // 5


def _there(inventory: Inventory) -> bool:
    return any(part.fact("kind") == WIRELESS for part in inventory.parts_of(PartKind.NETWORK))


CHECK = Check(
    name="wireless",
    row=PartKind.NETWORK,
    about=(
        "A wireless adapter with one antenna off still finds networks, with a tenth of the signal. Signal, rate and the"
        " neighbours on the same channel are shown; measure beside the router to tell the adapter from the place."
    ),
    finds="a weak signal, and a crowded channel",
    misses="a radio that drops out once in hours",
    usual_s=4.0,
    run=_run,
    parts=(PartKind.NETWORK,),
    kind=FindingKind.NETWORK_RADIO,
    code="N-150",
    worth_min=10.0,
    there=_there,
)
