"""What an event of the other system's logs means: the directory `events.toml`, by provider and number."""

from dataclasses import dataclass
from enum import StrEnum
from importlib import resources

from thresher.codes.directory import load_codes
from thresher.model.errors import InputError, InputFault
from thresher.model.findings import FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, parse_toml

FORMAT = "thresher-system-events/1"


class TimelineKind(StrEnum):
    """What an entry of the timeline is."""

    START = "start"
    CLEAN_SHUTDOWN = "clean shutdown"
    SUDDEN_END = "sudden end"
    STOP = "stop"
    REQUESTED = "requested"
    SLEEP = "sleep"
    WAKE = "wake"
    ERROR = "error"
    PART = "change of part"
    DRIVER = "change of driver"
    UPDATE = "update"
    CLOCK = "clock"
    CLEARED = "log cleared"


class Special(StrEnum):
    """Events that are read by more than a line of the directory."""

    RECORD = "hardware record"
    SUDDEN_END = "sudden end"
    STOP = "stop"
    DRIVE = "drive"


@dataclass(frozen=True, slots=True, kw_only=True)
class EventMeaning:
    """One entry: who writes it, its numbers, what it is, what it is evidence of and how probably it was hardware."""

    providers: tuple[str, ...]
    numbers: tuple[int, ...]
    title: str
    says: str
    code: str = ""
    kind: FindingKind | None = None
    part: PartKind | None = None
    severity: Severity = Severity.NOTE
    place: str = ""
    special: Special | None = None
    timeline: TimelineKind | None = None
    weight: float = 1.0


Meanings = dict[tuple[str, int], EventMeaning]


def parse_meanings(text: str, source: str) -> Meanings:
    """Parse a directory of events. Raises InputError with every fault."""
    faults: list[InputFault] = []
    found = convert_list(parse_toml(text, source, FORMAT), "events", EventMeaning, faults)
    codes = load_codes()
    meanings: Meanings = {}
    for entry in found:
        where = f"{entry.providers[0] if entry.providers else '?'} {entry.numbers}"
        if entry.kind is not None and (entry.part is None or entry.code not in codes):
            faults.append(InputFault(where, f"evidence needs a part and a known code, found {entry.code!r}"))
        if not 0.0 < entry.weight <= 1.0:
            faults.append(InputFault(where, f"weight: expected 0 to 1, found {entry.weight:g}"))
        for key in ((provider.lower(), number) for provider in entry.providers for number in entry.numbers):
            if key in meanings:
                faults.append(InputFault(where, f"{key[0]} {key[1]} is given twice"))
            meanings[key] = entry
    if faults:
        raise InputError(source, faults)
    return meanings


def load_meanings() -> Meanings:
    """Return the directory that comes with the program."""
    text = resources.files("thresher.system_logs").joinpath("events.toml").read_text(encoding="utf-8")
    return parse_meanings(text, "events.toml")
