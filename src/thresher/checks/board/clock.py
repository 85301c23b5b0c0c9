"""The board's clock: whether its battery keeps it, and whether it has lost its settings."""

import re
from datetime import UTC, datetime

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.model.channels import Quantity
from thresher.model.checks import Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.port import System, optional_number, optional_text

_RTC = "/sys/class/rtc"
_STICK_MADE = "/etc/thresher/built"
"""On the stick: when its image was made, in Unix seconds."""
_LEAST_V = 2.7
"""A CR2032 cell is empty at 2.0 V (IEC 60086-2 ends its discharge there); boards forget their settings well above."""
_MOST_OFF_S = 300.0
_ZONE_OFF_S = 60.0
_DAY_S = 86400.0
"""Local time is off by whole half hours; a clock that stopped is off by anything."""
_VBAT = re.compile(r"(?i)\bv?bat\b|battery|cmos")


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("reading the board's clock", 0.0)
    epoch, name = yield from beside(lambda: _since_epoch(bench.system))
    figures = []
    volts = _cell_volts(bench)
    if volts is not None:
        figures.append(Figure("clock battery", round(volts, 2), "V", _LEAST_V, None, "IEC 60086-2, with reserve"))
        if not figures[0].within:
            return (CHECK.failed(f"the clock battery has {volts:.2f} V left: replace it", *figures),)
    if epoch is None:
        return (CHECK.unclear("the kernel has no clock of the board", *figures),)
    try:
        clock = datetime.fromtimestamp(epoch, UTC)
    except (ValueError, OverflowError, OSError):
        return (CHECK.failed(f"the clock shows no date at all ({epoch:.0f} s): it lost power", *figures),)
    figures.append(Figure(f"clock {name}", words=clock.strftime("%Y-%m-%d %H:%M UTC")))
    made = optional_number(bench.system, _STICK_MADE) or 0
    if made and epoch < made - _DAY_S:
        day = datetime.fromtimestamp(made, UTC)
        why = f"the clock shows {clock:%Y-%m-%d}, before this stick was made ({day:%Y-%m-%d}): it lost power"
        return (CHECK.failed(f"{why}, so the clock battery is empty or missing", *figures),)
    built = yield from beside(lambda: _firmware_year(bench))
    if built and clock.year < built:
        why = f"the clock shows {clock.year}, before its firmware of {built} was made: it lost power"
        return (CHECK.failed(f"{why}, so the clock battery is empty or missing", *figures),)
    off = abs(epoch - bench.system.wall())
    figures.append(Figure("beside the time of this system", round(off), "s", None, _MOST_OFF_S, "judgement"))
    hours = round(off / 1800.0) / 2.0
    zone = hours <= 14 and abs(off - hours * 3600.0) < _ZONE_OFF_S
    if off > _MOST_OFF_S and not zone:
        return (CHECK.failed(f"the clock is {off / 3600:.1f} hours off: it stopped for some time", *figures),)
    kept = "it keeps time" if off <= _MOST_OFF_S else "it keeps time, in another time zone"
    return (CHECK.passed(kept + ("" if volts is not None else "; its battery's voltage is not reported"), *figures),)


def _since_epoch(system: System) -> tuple[float | None, str]:
    for name in system.list(_RTC):
        epoch = optional_number(system, f"{_RTC}/{name}/since_epoch")
        if epoch is not None:
            return float(epoch), name
    return None, ""


def _cell_volts(bench: CheckBench) -> float | None:
    newest = bench.reading
    if newest is None:
        return None
    for channel, value in zip(bench.channels, newest.values, strict=True):
        cell = channel.quantity is Quantity.VOLTAGE and channel.kind is not PartKind.BATTERY and not channel.distrust
        if cell and value and _VBAT.search(channel.name):
            return value
    return None


def _firmware_year(bench: CheckBench) -> int | None:
    text = optional_text(bench.system, "/sys/class/dmi/id/bios_date") or next(
        (part.fact("firmware").partition("date ")[2] for part in bench.inventory.parts_of(PartKind.BOARD)),
        "",
    )
    year = re.search(r"\b(19|20)\d\d\b", text)
    return int(year[0]) if year else None


CHECK = Check(
    name="clock battery",
    row=PartKind.BOARD,
    about=(
        "A coin cell on the board keeps its clock and settings while the machine is without current. When it is"
        " empty the clock loses the time at each power cut and the firmware forgets its settings, which looks like a"
        " fault of the board."
    ),
    finds="an empty clock battery, and a clock that stopped",
    misses="a cell that fails only when the machine has been without current overnight: look again tomorrow",
    usual_s=3.0,
    run=_run,
    parts=(PartKind.BOARD,),
    kind=FindingKind.CLOCK_BATTERY,
    code="S-120",
    worth_min=60.0,
)
