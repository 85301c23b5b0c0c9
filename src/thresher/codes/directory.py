"""Reading the fault-code directory (`thresher-codes/1`, TOML, shipped as data)."""

import re
from dataclasses import dataclass
from importlib import resources

from thresher.model.errors import InputError, InputFault
from thresher.model.tomlfile import convert_list, parse_toml

FORMAT = "thresher-codes/1"
_CODE = re.compile(r"[A-Z]-\d{3}")


@dataclass(frozen=True, slots=True, kw_only=True)
class FaultCode:
    """One code: title, meaning, usual causes most likely first, next steps cheapest first."""

    code: str
    title: str
    meaning: str
    causes: tuple[str, ...]
    steps: tuple[str, ...]


def parse_codes(text: str, source: str) -> dict[str, FaultCode]:
    """Parse a directory. Raises InputError for codes of a wrong form or given twice."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    codes: dict[str, FaultCode] = {}
    for entry in convert_list(data, "codes", FaultCode, faults):
        if not _CODE.fullmatch(entry.code):
            faults.append(InputFault(entry.code, "expected a capital letter, a dash and three digits"))
        if entry.code in codes:
            faults.append(InputFault(entry.code, "is given twice"))
        codes[entry.code] = entry
    if faults:
        raise InputError(source, faults)
    return codes


def load_codes() -> dict[str, FaultCode]:
    """Return the directory that comes with the program."""
    text = resources.files("thresher.codes").joinpath("fault_codes.toml").read_text(encoding="utf-8")
    return parse_codes(text, "fault_codes.toml")
