"""Findings made from what a team of workers reports, and the circumstances put to a finding."""

from collections.abc import Callable
from dataclasses import replace

from thresher.events.machine_checks.registers import MachineCheck
from thresher.inventory.memory_map import slot_of
from thresher.loads.team.events import MemoryWrongSeen, MismatchSeen, ReferenceDisputed, RoundOffSeen, WorkerLost
from thresher.model.findings import Finding, FindingKind, Severity, WordNature, WrongPlace
from thresher.model.parts import Inventory, PartKind

STORM_S = 5.0
STORM_MOST_S = 60.0
"""Equal findings of one place are reported at most this often, in machine seconds; none is left out of the count.

The longer a storm lasts the seldomer, from the first to the second figure.
"""
_SAME_PAUSES = 12
"""So often the first pause is kept before it grows: a minute of a storm is reported closely."""

_Sign = tuple[FindingKind, str, str]

_MOST_PLACES = 64
_PLURALS = {
    FindingKind.WRONG_RESULT: "wrong results",
    FindingKind.MESSAGE_WRONG: "wrong messages",
    FindingKind.MEMORY_WRONG: "wrong memory readings",
}


def finding_of_team_event(event: object, inventory: Inventory, at: float) -> Finding:
    """Return the finding that a team's event is, at machine time `at`. Raises TypeError for what is none."""
    match event:
        case MismatchSeen(_, _, _, _, partner) if partner is not None:
            return _wrong_message(event, inventory, at)
        case MismatchSeen():
            return _wrong_result(event, inventory, at)
        case MemoryWrongSeen():
            return _wrong_memory(event, inventory, at)
        case RoundOffSeen(cpu, report):
            core = _core(inventory, cpu)
            return Finding(
                "P-106",
                FindingKind.ROUND_OFF,
                Severity.WARNING,
                PartKind.PROCESSOR,
                at,
                f"Round-off near its margin, core {core}",
                f"transform, beat {report.beat}: {report.distance:.2f} from a whole number; at 0.50 digits turn wrong",
                f"core {core}",
                core,
            )
        case ReferenceDisputed(made_on, confirmed_on, sets):
            made, confirmed = _core(inventory, made_on), _core(inventory, confirmed_on)
            return Finding(
                "P-105",
                FindingKind.REFERENCE_DISPUTE,
                Severity.FAULT,
                PartKind.PROCESSOR,
                at,
                "Cores disagree about a known answer",
                f"core {made} made the reference, core {confirmed} does not confirm {sets} of its sets",
                f"cores {made} and {confirmed}",
            )
        case WorkerLost(cpu, _) as lost:
            core = _core(inventory, cpu)
            return Finding(
                "P-110",
                FindingKind.WORKER_CRASH,
                Severity.FAULT,
                PartKind.PROCESSOR,
                at,
                f"Worker crashed, core {core}",
                f"{lost.sentence}, in code that had been running",
                f"core {core}",
                core,
            )
    raise TypeError(f"not an event of a team: {event!r}")


def _wrong_result(seen: MismatchSeen, inventory: Inventory, at: float) -> Finding:
    core, mismatch = _core(inventory, seen.cpu), seen.mismatch
    word = mismatch.shown[0] if mismatch.shown else None
    bits = ", ".join(str(bit) for bit in word.bits[:6]) if word else ""
    plural = "s" if word and len(word.bits) > 1 else ""
    where = f", word {word.index}, bit{plural} {bits}" if word else ""
    what = f" ({mismatch.what})" if mismatch.what else ""
    again = f"{mismatch.wrong_again} of {mismatch.repeats} repeats wrong on this core{_others(seen, inventory)}"
    detail = (
        f"{seen.load}{what}, beat {mismatch.beat}, {mismatch.wrong} of {mismatch.words} words wrong{where}; {again}"
    )
    raw = "\n".join(f"word {w.index}: expected {w.expected}, found {w.found}" for w in mismatch.shown)
    return Finding(
        "P-104",
        FindingKind.WRONG_RESULT,
        Severity.FAULT,
        PartKind.PROCESSOR,
        at,
        f"Wrong result, core {core}",
        detail,
        f"core {core}",
        core,
        count=mismatch.count,
        raw=raw,
        repeats=mismatch.repeats,
        wrong_again=mismatch.wrong_again,
    )


def _others(seen: MismatchSeen, inventory: Inventory) -> str:
    right = sorted({_core(inventory, cpu) for cpu in seen.others.right})
    wrong = sorted({_core(inventory, cpu) for cpu in seen.others.wrong})
    parts = []
    if right:
        parts.append(f"right on core{'s' if len(right) > 1 else ''} {' and '.join(map(str, right))}")
    if wrong:
        parts.append(f"wrong on core{'s' if len(wrong) > 1 else ''} {' and '.join(map(str, wrong))} too")
    return "".join(f", {part}" for part in parts)


def _wrong_message(seen: MismatchSeen, inventory: Inventory, at: float) -> Finding:
    assert seen.partner_cpu is not None
    one, other = sorted((_core(inventory, seen.cpu), _core(inventory, seen.partner_cpu)))
    word = seen.mismatch.shown[0]
    bits = ", ".join(str(bit) for bit in word.bits[:6])
    return Finding(
        "P-107",
        FindingKind.MESSAGE_WRONG,
        Severity.FAULT,
        PartKind.PROCESSOR,
        at,
        f"Wrong message between cores {one} and {other}",
        f"relay, message {word.index}, bits {bits}",
        f"cores {one} and {other}",
        _core(inventory, seen.cpu),
        count=seen.mismatch.count,
        raw=f"message {word.index}: expected {word.expected}, found {word.found}",
    )


def _wrong_memory(seen: MemoryWrongSeen, inventory: Inventory, at: float) -> Finding:
    wrong = seen.wrong
    places = tuple(
        WrongPlace(
            cell.virtual,
            cell.physical,
            cell.expected,
            cell.found,
            cell.nature is WordNature.STUCK,
            not cell.again,
            cell.nature,
        )
        for cell in wrong.shown
    )
    first = places[0]
    known = first.physical is not None
    address = f"physical {first.physical:#x}" if known else f"virtual {first.virtual:#x}"
    code, again = _read_again(first)
    bits = ", ".join(str(bit) for bit in first.bits[:6])
    plural = "s" if wrong.words > 1 else ""
    # which core reads a stretch is the program's choice, so it says nothing about cores and is not the finding's place
    detail = (
        f"{wrong.pattern}, {wrong.step}: {wrong.words} wrong word{plural}, first at {address}, bit {bits}; {again};"
        f" read by core {_core(inventory, seen.cpu)}"
    )
    raw = "\n".join(
        f"{f'{each.physical:#x}' if each.physical is not None else f'virtual {each.virtual:#x}'}: "
        f"expected {each.expected}, found {each.found}, {each.nature.value if each.nature else ''}"
        for each in places
    )
    slot = slot_of(inventory, first.physical) if first.physical is not None else ""
    return Finding(
        code,
        FindingKind.MEMORY_WRONG,
        Severity.FAULT,
        PartKind.MEMORY,
        at,
        f"Wrong memory word{f', {slot}' if slot else ''}",
        detail,
        slot,
        None,
        count=wrong.count,
        raw=raw,
        places=places,
    )


def _read_again(place: WrongPlace) -> tuple[str, str]:
    """Return the fault code and the words for what reading a wrong word again gave."""
    match place.nature:
        case WordNature.STUCK:
            return "M-210", "wrong again after rewriting: stuck"
        case WordNature.FLIP:
            return "M-213", "the same on every read, right after rewriting: it had flipped"
        case WordNature.ON_THE_WAY:
            return "M-211", "not the same when read again: the path to the cell, not the cell"
        case _:
            return "M-212", "right after rewriting: flipped, or wrong on the way"


def finding_of_hang(cpu: int, inventory: Inventory, detail: str, at: float) -> Finding:
    """Return the finding that the core of a logical CPU does no beat any more, at machine time `at`."""
    core = _core(inventory, cpu)
    return Finding(
        "P-112",
        FindingKind.CORE_HANG,
        Severity.FAULT,
        PartKind.PROCESSOR,
        at,
        f"Core {core} hung",
        detail,
        f"core {core}",
        core,
    )


def _core(inventory: Inventory, cpu: int) -> int:
    core = inventory.core_of(cpu)
    return cpu if core is None else core


def with_circumstances(
    finding: Finding,
    run_at: float | None,
    load: str,
    temperature_c: float | None,
    clock_mhz: float | None = None,
    volts: float | None = None,
) -> Finding:
    """Return the finding with the circumstances that it came under, said in its detail for wrong results."""
    known = finding.temperature_c if finding.temperature_c is not None else temperature_c
    detail = finding.detail
    if finding.kind is FindingKind.WRONG_RESULT:
        wording = [
            text.format(value)
            for text, value in (("{:.0f} °C", known), ("{:.0f} MHz", clock_mhz), ("{:.3f} V", volts))
            if value is not None
        ]
        detail += "".join(f"; {', '.join(wording)}" for _ in wording[:1])
    return replace(
        finding, run_at=run_at, load=load, temperature_c=known, clock_mhz=clock_mhz, volts=volts, detail=detail
    )


def describe_check(check: MachineCheck) -> dict[str, object]:
    """Return a machine check's registers as plain data for the journal, raw lines included."""
    registers = {"status": check.status, "address": check.address, "misc": check.misc, "mcg_status": check.mcg_status}
    shown = {name: f"{value:#x}" for name, value in registers.items() if value is not None}
    return {"cpu": check.cpu, "bank": check.bank, **shown, "raw": list(check.raw)}


class Storms:
    """Holds equal findings of one place together, so that what goes wild gives one every few seconds with a count.

    Held longer the longer a storm lasts, up to a minute.
    """

    def __init__(self) -> None:
        """Nothing is held."""
        self._published: dict[_Sign, tuple[float, int]] = {}
        self._held: dict[_Sign, Finding] = {}

    def take(self, finding: Finding, find: Callable[[Finding], None], now: float | None = None) -> None:
        """Pass a finding on, or hold it when one of its kind and place was reported a moment ago.

        `now` is the clock that `release` goes by, where that is not the clock of the finding: the kernel stamps its
        log with one of its own, which drifts."""
        at = finding.at if now is None else now
        key = (finding.kind, finding.code, finding.place)
        before = self._published.get(key)
        if before is None or at - before[0] >= _pause(before[1]):
            # after a quiet time it is a new storm
            times = 1 if before is None or at - before[0] >= 2 * STORM_MOST_S else before[1] + 1
            self._published[key] = (at, times)
            find(finding)
            return
        held = self._held.get(key)
        if held is None:
            self._held[key] = finding
            return
        places = held.places
        if finding.places and len(places) < _MOST_PLACES:
            places = (*places, *finding.places)[:_MOST_PLACES]
        self._held[key] = replace(finding, count=finding.count + held.count, places=places)

    def release(self, at: float | None, find: Callable[[Finding], None]) -> None:
        """Pass on what was held long enough at machine time `at`, or everything when it is None."""
        for key, finding in list(self._held.items()):
            published_at, times = self._published[key]
            if at is None or at - published_at >= _pause(times):
                del self._held[key]
                self._published[key] = (finding.at if at is None else at, times + 1)
                find(replace(finding, title=_many(finding) if finding.count > 1 else finding.title))


def _pause(times: int) -> float:
    """Seconds that findings of one sign are held after they were reported for the n-th time."""
    return float(min(STORM_MOST_S, STORM_S * 2 ** max(0, times - _SAME_PAUSES)))


def _many(finding: Finding) -> str:
    plural = _PLURALS.get(finding.kind)
    if plural is None:
        return f"{finding.count} × {finding.title}"
    return f"{finding.count} {plural}, {finding.place}".rstrip(", ")
