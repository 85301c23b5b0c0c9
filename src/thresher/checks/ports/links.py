"""Links of all devices on the bus: width and speed against what both ends can."""

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.graphics.cards import Link, read_link
from thresher.model.checks import Figure
from thresher.model.parts import PartKind
from thresher.model.port import System, optional_number, optional_text

_PCI = "/sys/bus/pci/devices"
_BRIDGE = "0x0604"
"""PCI Code and ID Assignment: class 06h, subclass 04h is a bridge between buses."""
_DISPLAY = "0x03"


def _links(system: System) -> list[tuple[str, str, Link]]:
    """Return address, class and link of each device that is no bridge and has a link."""
    found = []
    for name in system.list(_PCI):
        kind = optional_text(system, f"{_PCI}/{name}/class")
        if kind.startswith(_BRIDGE) or not optional_number(system, f"{_PCI}/{name}/current_link_width"):
            continue
        link = read_link(system, name)
        if link is not None:
            found.append((name, kind, link))
    return found


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("reading the links", 0.0)
    found = yield from beside(lambda: _links(bench.system))
    if not found:
        return (CHECK.unclear("no device reports a link of its own"),)
    figures = tuple(Figure(name, words=link.words, source=f"{_PCI}/{name}") for name, _, link in found)
    narrow = [(name, link) for name, _, link in found if link.narrow]
    # a card that rests makes its link slower by itself: only its width counts here
    slow = [(name, link) for name, kind, link in found if link.slow and not kind.startswith(_DISPLAY)]
    if narrow:
        words = "; ".join(f"{name} has {link.words}" for name, link in narrow)
        return (CHECK.failed(f"fewer lanes than both ends can: {words}", *figures),)
    if slow:
        words = "; ".join(f"{name} has {link.words}" for name, link in slow)
        return (CHECK.unclear(f"a link is slow, which may be to save power: {words}", *figures),)
    return (CHECK.passed(f"{len(found)} links have all their lanes", *figures),)


CHECK = Check(
    name="links",
    row=PartKind.BOARD,
    about=(
        "Cards, drives and network adapters talk to the board over links of several lanes. A device that is not seated"
        " well, or a slot with a bent contact, runs with fewer lanes: it works, at a fraction of its speed."
    ),
    finds="devices with fewer lanes than they and their slot can have",
    misses="links that drop out once in hours",
    usual_s=3.0,
    run=_run,
    parts=(PartKind.BOARD, PartKind.GRAPHICS, PartKind.DRIVE),
    code="S-531",
)
