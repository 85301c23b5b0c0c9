"""What holds for a whole run sheet, in the words of its fields: what stops the run, and what comes after a crash."""

import re
from dataclasses import replace

from thresher.compose.entry import EntryError
from thresher.compose.sheet_file import MOST_CRASHES
from thresher.model.sheet import AfterCrash, CrashPlan, SheetLimits

LIMITS = {
    "chip limits": SheetLimits(),
    "95 °C": SheetLimits(95.0),
    "90 °C": SheetLimits(90.0),
    "the first fault": SheetLimits(None, 1),
    "95 °C or the first fault": SheetLimits(95.0, 1),
}
"""What may stop a run, in words."""


def limits_words(limits: SheetLimits) -> str:
    """Return what stops a run, in the words of the field."""
    known = next((words for words, each in LIMITS.items() if each == limits), None)
    if known is not None:
        return known
    words = [f"{limits.temperature_c:g} °C"] if limits.temperature_c is not None else []
    words += [f"{limits.stop_after_faults} faults"] if limits.stop_after_faults is not None else []
    return " or ".join(words)


def parse_limits(text: str) -> SheetLimits:
    """Return the limits of such as `95 °C`, `the first fault`, `92 °C or 3 faults`. Raises EntryError."""
    if (known := LIMITS.get(text.strip().lower().replace("°c", "°C"))) is not None:
        return known
    temperature: float | None = None
    faults: int | None = None
    for piece in text.lower().replace(",", " or ").split(" or "):
        word = piece.strip()
        number = word.split()[0].removesuffix("°c").removesuffix("c") if word else ""
        if word == "the first fault" or word == "first fault":
            faults = 1
        elif "fault" in word and number.isdecimal() and int(number) >= 1:
            faults = int(number)
        elif number.replace(".", "", 1).isdecimal() and 30 <= float(number) <= 130:
            temperature = float(number)
        else:
            raise EntryError(f"expected such as 95 °C or the first fault, found {text.strip()!r}")
    return SheetLimits(temperature, faults)


AFTER_CRASH = {
    "stop and wait": CrashPlan(),
    "go on": CrashPlan(AfterCrash.GO_ON),
    "find the part": CrashPlan(AfterCrash.ISOLATE),
    "go on, with watchdog": CrashPlan(AfterCrash.GO_ON, watchdog=True),
    "find the part, with watchdog": CrashPlan(AfterCrash.ISOLATE, watchdog=True),
}
"""What may happen when the machine comes to a sudden end, in words."""
_WAITS, _USUAL = AfterCrash.WAIT, CrashPlan()


def crash_words(crash: CrashPlan) -> str:
    """Return what happens after a sudden end, in the words of the field."""
    usual = replace(crash, most=_USUAL.most, between_s=_USUAL.between_s)
    words = next(words for words, each in AFTER_CRASH.items() if each == usual or crash.then is each.then is _WAITS)
    return words if crash.most == usual.most or crash.then is _WAITS else f"{words}, {crash.most} times at most"


def parse_crash(text: str, before: CrashPlan = _USUAL) -> CrashPlan:
    """Return what happens after a sudden end, such as `go on` or `find the part, 8 times at most`.

    What the words do not name stays as it was `before`. Raises EntryError.
    """
    match = re.fullmatch(r"(.*?)(?:, (\d+) times at most)?", text.strip().lower())
    assert match is not None
    found = AFTER_CRASH.get(match[1])
    if found is None or (match[2] is not None and not 1 <= int(match[2]) <= MOST_CRASHES):
        known = "; ".join(AFTER_CRASH)
        hint = "with ', N times at most' for another number"
        raise EntryError(f"expected one of {known}; {hint}; found {text.strip()!r}")
    most = int(match[2]) if match[2] is not None else found.most
    return replace(found, most=most, between_s=before.between_s)
