"""Reading the fault-code directory (`thresher-codes/1`, TOML, shipped as data)."""

import re
from dataclasses import dataclass, field
from importlib import resources

from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, parse_toml

FORMAT = "thresher-codes/1"
CODE = re.compile(r"[A-Z]-\d{3}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Noise:
    """How many from one place within how many hours are no sign of a fault yet, and who says so."""

    count: int
    hours: float
    source: str


@dataclass(frozen=True, slots=True, kw_only=True)
class FaultCode:
    """One code: title, meaning, usual causes most likely first, next steps cheapest first.

    `shares` are the parts it points at and how strongly, adding up to 1; none where it points at no part.
    """

    code: str
    title: str
    meaning: str
    causes: tuple[str, ...]
    steps: tuple[str, ...]
    shares: dict[PartKind, float] = field(default_factory=dict)
    noise: Noise | None = None


def parse_codes(text: str, source: str) -> dict[str, FaultCode]:
    """Parse a directory. Raises InputError for codes of a wrong form or given twice, and for shares not adding up."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    codes: dict[str, FaultCode] = {}
    for entry in convert_list(data, "codes", FaultCode, faults):
        if not CODE.fullmatch(entry.code):
            faults.append(InputFault(entry.code, "expected a capital letter, a dash and three digits"))
        if entry.code in codes:
            faults.append(InputFault(entry.code, "is given twice"))
        if entry.shares and abs(sum(entry.shares.values()) - 1.0) > 1e-6:
            faults.append(InputFault(entry.code, f"shares add up to {sum(entry.shares.values()):g}, not 1"))
        if entry.noise is not None and (entry.noise.count < 1 or entry.noise.hours <= 0):
            faults.append(InputFault(entry.code, "noise needs a count of 1 or more and hours above 0"))
        codes[entry.code] = entry
    if faults:
        raise InputError(source, faults)
    return codes


def load_codes() -> dict[str, FaultCode]:
    """Return the directory that comes with the program."""
    text = resources.files("thresher.codes").joinpath("fault_codes.toml").read_text(encoding="utf-8")
    return parse_codes(text, "fault_codes.toml")
