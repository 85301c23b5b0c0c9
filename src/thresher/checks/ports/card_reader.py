"""A card reader: a card that is put in must be seen, and its first blocks must come."""

from dataclasses import dataclass

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, beside, pause, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.port import System, optional_number, optional_text
from thresher.model.questions import Choice, Question

_BLOCK = "/sys/block"
_LOOK_S = 3.0
_READ = 4 << 20
_SECTOR = 512
"""Unit of `size` (kernel document ABI/stable/sysfs-block)."""
_OUT = Question(
    "Card reader",
    "Take every memory card out of the readers",
    (Choice("O", "out", "They are out"), Choice("N", "none", "There is no card here")),
    at_most_s=300.0,
)
_IN = Question(
    "Card reader",
    "Put a memory card into the reader",
    (Choice("I", "in", "It is in"), Choice("N", "none", "Leave it out")),
    "Push it in until it clicks. Nothing is written to it.",
    at_most_s=300.0,
)


@dataclass(frozen=True, slots=True)
class _Card:
    """A card: the kernel's name of its disk, what it calls itself, and its size in bytes."""

    disk: str
    name: str
    size: int


def _cards(system: System) -> dict[str, _Card]:
    """Return the disks that have a medium and may be cards: of a card host, or with a medium that can be taken out."""
    found = {}
    for disk in system.list(_BLOCK):
        here = f"{_BLOCK}/{disk}"
        host = disk.startswith("mmcblk") and "boot" not in disk and "rpmb" not in disk
        if not host and optional_text(system, f"{here}/removable") != "1":
            continue
        size = (optional_number(system, f"{here}/size") or 0) * _SECTOR
        if size and not disk.startswith("sr"):
            name = optional_text(system, f"{here}/device/name") or optional_text(system, f"{here}/device/model")
            found[disk] = _Card(disk, name or disk, size)
    return found


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to put a card in"),)
    yield from progress("readers", 0.0)
    answer = yield from ask(_OUT)
    if answer is None or answer.word == "none":
        return (CHECK.unclear("there was no card to try"),)
    yield from pause(_LOOK_S)
    before = yield from beside(lambda: _cards(bench.system))
    yield from progress("card", 0.3)
    answer = yield from ask(_IN)
    if answer is None or answer.word == "none":
        return (CHECK.unclear("no card was put in"),)
    yield from pause(_LOOK_S)
    after = yield from beside(lambda: _cards(bench.system))
    new = [card for disk, card in after.items() if disk not in before]
    if not new:
        return (CHECK.failed("the card was not detected"),)
    results: list[CheckResult] = []
    for card in new:
        result = yield from _read(bench, card)
        results.append(result)
    return tuple(results)


def _read(bench: CheckBench, card: _Card) -> Steps[CheckResult]:
    size = Figure("size", card.size / 1e9, "GB")
    begun = bench.now()
    try:
        data = yield from beside(lambda: bench.system.read_start(f"/dev/{card.disk}", _READ))
    except SourceUnavailable as error:
        if "denied" in error.reason:
            return CHECK.passed(f"{card.name} was detected; reading it needs more rights", size, place=card.disk)
        return CHECK.failed(f"{card.name} was detected but cannot be read: {error.reason}", size, place=card.disk)
    seconds = bench.now() - begun
    figures = (size, Figure("read", len(data) / 1e6, "MB"))
    rate = f" at {len(data) / 1e6 / seconds:.1f} MB/s" if seconds > 0 else ""
    if len(data) < min(_READ, card.size):
        return CHECK.failed(f"{card.name} was detected, but only part of it could be read", *figures, place=card.disk)
    return CHECK.passed(f"{card.name} was detected and read{rate}", *figures, place=card.disk)


CHECK = Check(
    name="card reader",
    row=PartKind.BOARD,
    about=(
        "A memory card is put in: the machine must see it, and its first blocks must come. Bent contacts and dirt show"
        " as a card that is not seen, or seen and not read."
    ),
    finds="dead card readers and bad contacts",
    misses="slots in which no card was tried",
    usual_s=30.0,
    run=_run,
    parts=(PartKind.BOARD,),
    needs=(Need.PERSON, Need.CARD),
    kind=FindingKind.PORT_DEAD,
    code="S-615",
    worth_min=10.0,
    built_in=BuiltInKind.CARD_READER,
)
