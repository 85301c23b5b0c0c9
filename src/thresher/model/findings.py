"""Findings: what counts as evidence, decoded, with a fault code, a place and a severity."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.model.parts import PartKind


class Severity(StrEnum):
    """How bad a tape entry is, told by shape and word as well as by colour."""

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
    DRIVE_STALL = "drive stalled"


@dataclass(frozen=True, slots=True)
class Finding:
    """One piece of evidence.

    `at` is machine time in seconds, `run_at` seconds since the run began (None outside a run). `place` is
    what a person reads ("core 5"); `core` and `address` are for the diagnosis. `count` is how many equal
    signs this one stands for.
    """

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
