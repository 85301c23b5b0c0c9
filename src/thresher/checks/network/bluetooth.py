"""Bluetooth: an adapter that has started, and is not switched off."""

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.model.checks import CheckResult, Figure
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.network_port import BluetoothState
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.port import System, optional_text

_CLASS, _SWITCHES = "/sys/class/bluetooth", "/sys/class/rfkill"
_NO_ADDRESS = ("00:00:00:00:00:00", "")
_MOST_ERRORS = 10.0


def _switched_off(system: System) -> str:
    """Return why the radio is off, empty when it is not (kernel document ABI/stable/sysfs-class-rfkill)."""
    for name in system.list(_SWITCHES):
        here = f"{_SWITCHES}/{name}"
        if optional_text(system, f"{here}/type") != "bluetooth":
            continue
        if optional_text(system, f"{here}/hard") == "1":
            return "it is switched off by a key or a switch of the machine"
        if optional_text(system, f"{here}/soft") == "1":
            return "it is switched off by the system"
    return ""


def _adapters(system: System) -> list[str]:
    return [name for name in system.list(_CLASS) if name.startswith("hci") and ":" not in name]


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("looking for adapters", 0.0)
    names = yield from beside(lambda: _adapters(bench.system))
    off = yield from beside(lambda: _switched_off(bench.system))
    if not names:
        return (CHECK.unclear(off or "no Bluetooth adapter answers"),)
    results = []
    for name in names:
        try:
            state = yield from beside(lambda name=name: bench.system.open_network().bluetooth(name))  # type: ignore[misc]
        except SourceUnavailable as error:
            results.append(CHECK.unclear(str(error), place=name))
            continue
        results.append(_judge(name, state, off))
    return tuple(results)


def _judge(name: str, state: BluetoothState | None, off: str) -> CheckResult:
    if off:
        return CHECK.unclear(off, place=name)
    if state is None:
        return CHECK.failed("the kernel lists it, but it does not respond", place=name)
    lost = Figure("errors", float(state.errors), "", None, _MOST_ERRORS, "judgement: none on a sound adapter")
    figures = (Figure("address", words=state.address or "none"), lost)
    if state.address in _NO_ADDRESS:
        return CHECK.failed("it did not start: no address. Usually its firmware is missing", *figures, place=name)
    if not lost.within:
        return CHECK.failed(f"{state.errors} errors between the adapter and the machine", *figures, place=name)
    return CHECK.passed("it started and responds", *figures, place=name)


CHECK = Check(
    name="bluetooth",
    row=PartKind.NETWORK,
    about=(
        "The Bluetooth adapter must have started, with an address of its own, and talk to the machine without errors."
        " Most sit on the wireless card and fail with it."
    ),
    finds="adapters that did not start or lose data on their way to the machine",
    misses="weak aerials: pair a headset and walk away",
    usual_s=2.0,
    run=_run,
    parts=(PartKind.NETWORK,),
    kind=FindingKind.NETWORK_LINK,
    code="N-160",
    worth_min=10.0,
    built_in=BuiltInKind.BLUETOOTH,
)
