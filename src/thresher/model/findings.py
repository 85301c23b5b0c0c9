"""Findings: what counts as evidence, decoded, with a fault code, a place and a severity."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from thresher.model.parts import PartKind


class Severity(StrEnum):
    """How bad a tape entry is, shown by shape and word as well as by colour."""

    NOTE = "note"
    WARNING = "warning"
    FAULT = "fault"


class FindingKind(StrEnum):
    """The kinds of evidence that the diagnosis reasons about."""

    WRONG_RESULT = "wrong result"
    REFERENCE_DISPUTE = "reference dispute"
    WORKER_CRASH = "worker crash"
    CORRECTED_CHECK = "corrected machine check"
    UNCORRECTED_CHECK = "uncorrected machine check"
    MEMORY_CORRECTED = "corrected memory error"
    MEMORY_UNCORRECTED = "uncorrected memory error"
    HEAT_LIMIT = "temperature limit reached"
    HEAT_THROTTLE = "clock lowered by heat"
    CLOCK_LOW = "clock low without heat"
    RAIL_OUT = "rail out of tolerance"
    FAN_STOPPED = "fan stopped"
    ENDED_SUDDENLY = "ended suddenly"
    FROZE = "machine froze"
    SWITCHED_OFF = "switched itself off"
    DRIVE_STALL = "drive stalled"
    MEMORY_WRONG = "wrong memory word"
    MESSAGE_WRONG = "wrong message"
    ROUND_OFF = "round-off near its margin"
    CORE_HANG = "core hung"
    LOCKED_UP = "processor locked up"
    LINK_CORRECTED = "corrected link error"
    LINK_UNCORRECTED = "uncorrected link error"
    DRIVE_FAILED = "drive cannot read or write"
    DRIVE_LINK = "drive link error"
    DRIVE_SILENT = "drive does not answer"
    DRIVE_DATA = "drive gives back wrong data"
    DRIVE_WORN = "drive worn out"
    FILE_SYSTEM = "file system damaged"
    GRAPHICS_HANG = "graphics hang"
    GRAPHICS_MEMORY = "graphics memory error"
    CARD_RESULT = "wrong graphics result"
    CARD_PIXEL = "wrong pixel"
    CARD_MEMORY = "wrong word of card memory"
    CARD_TRANSFER = "data changed on the card's link"
    CARD_LINK = "graphics link narrow or slow"
    CARD_GONE = "graphics card off the bus"
    CARD_HOT = "graphics card too hot"
    CARD_FAN = "graphics fan stopped"
    ARTEFACT_SHOWN = "artefact seen, frames right"
    ARTEFACT_DRAWN = "artefact seen, frames wrong"
    USB_ERROR = "USB error"
    NETWORK_HANG = "network hang"
    BOARD_ERROR = "board error"
    HEAT_SHUTDOWN = "shut down by heat"
    KERNEL_CRASH = "kernel crash"
    STOP_SCREEN = "stop screen"
    NO_START = "does not start"
    BATTERY_WORN = "battery worn out"
    BATTERY_WRONG = "battery reports wrong charge"
    ADAPTER_WEAK = "adapter too weak"
    CLOCK_BATTERY = "clock battery empty"
    FAN_DEAF = "fan does not follow"
    PORT_DEAD = "port dead"
    NETWORK_LINK = "network link bad"
    NETWORK_WAY = "network has no way out"
    NETWORK_NAMES = "names do not resolve"
    NETWORK_RADIO = "wireless signal weak"
    PICTURE_WRONG = "picture wrong to the eye"
    SOUND_WRONG = "sound wrong"
    KEYS_WRONG = "keys wrong"
    BOARD_SENSOR = "sensor outside the controller's limits"
    CAMERA_BAD = "camera picture wrong"
    OPTICAL_BAD = "optical drive does not read"


ENDING_KINDS = (
    FindingKind.ENDED_SUDDENLY,
    FindingKind.FROZE,
    FindingKind.SWITCHED_OFF,
    FindingKind.HEAT_SHUTDOWN,
    FindingKind.KERNEL_CRASH,
)
"""What the machine's own end is evidence as; the minutes before it count together with it, never as clean time."""

ADOPTED = "found at the start after it"
"""The origin of findings that the next start reported of a boot that came to a sudden end."""

CORRECTED_KINDS = (FindingKind.CORRECTED_CHECK, FindingKind.MEMORY_CORRECTED)
"""Errors that the hardware corrected, so that no load could see them."""


class WordNature(StrEnum):
    """What a wrong word of memory is, by reading it again before and after it was written once more."""

    STUCK = "stuck"
    FLIP = "flip"
    ON_THE_WAY = "on the way"
    PASSING = "passing"


@dataclass(frozen=True, slots=True)
class WrongPlace:
    """One wrong word of memory: addresses in bytes (`physical` None if unknown), both words as 16 hex digits.

    `nature` is what reading it again and writing it once more has shown. Job files of before have `steady` instead: the
    same wrong word on every read, `rewritten` when it had been written again for that.
    """

    virtual: int
    physical: int | None
    expected: str
    found: str
    steady: bool = False
    rewritten: bool = False
    nature: WordNature | None = None

    @property
    def bits(self) -> tuple[int, ...]:
        """The bits that differ, 0 the lowest."""
        changed = int(self.expected, 16) ^ int(self.found, 16)
        return tuple(bit for bit in range(64) if changed >> bit & 1)


@dataclass(frozen=True, slots=True)
class Finding:
    """One piece of evidence.

    `at` is machine time in seconds, `run_at` seconds since the run began (None outside a run). `place` is what a
    person reads ("core 5"); `core` and `address` (physical, in bytes) are for the diagnosis. `count` is how many equal
    signs this one stands for. `clock_mhz` and `volts` are the core's when it happened. `repeats` and `wrong_again` say
    how often the same beat was done again on the same core and was wrong; `places` are wrong words of memory.
    `origin` is where a finding that was added by hand is from (empty: this machine reported it), `configuration` what
    was installed then, in the technician's words. `run` is the number of the run that it came in. `channel` is the key
    of the channel whose readings it was made from: it counts only while that is trusted. `weight` is how probable it is
    that it was the machine's doing at all, 1 for whatever is certain. `kinds` are what it may have been, with
    probabilities, where `kind` is not certain. `cores` are those that the load ran on that it came under, none for all
    of them."""

    code: str
    kind: FindingKind
    severity: Severity
    part: PartKind
    at: float
    title: str
    detail: str
    place: str = ""
    core: int | None = None
    run_at: float | None = None
    load: str = ""
    temperature_c: float | None = None
    count: int = 1
    raw: str = ""
    clock_mhz: float | None = None
    volts: float | None = None
    repeats: int = 0
    wrong_again: int = 0
    places: tuple[WrongPlace, ...] = ()
    origin: str = ""
    configuration: str = ""
    run: int | None = None
    address: int | None = None
    channel: str = ""
    weight: float = 1.0
    kinds: tuple[tuple[FindingKind, float], ...] = ()
    cores: tuple[int, ...] = ()


def findings_of_run(findings: Iterable[Finding], run: int | None) -> list[Finding]:
    """Return the findings that came in a run, of the run of that number."""
    return [each for each in findings if run is not None and each.run == run]


def trusted_findings(findings: Iterable[Finding], ignored: frozenset[str]) -> list[Finding]:
    """Return the findings without those made from readings of channels that are ignored (their keys)."""
    return [each for each in findings if not each.channel or each.channel not in ignored]


NOTE = "Note"
"""Title of what a technician wrote on the tape."""


@dataclass(frozen=True, slots=True)
class TapeEntry:
    """One line of the tape: something that happened, finding or not."""

    at: float
    run_at: float | None
    title: str
    detail: str
    severity: Severity = Severity.NOTE
    code: str = ""
    part: PartKind | None = None
