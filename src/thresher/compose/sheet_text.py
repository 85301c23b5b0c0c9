"""Writing a run sheet as the TOML file that `sheet_file` reads."""

import math
from typing import Any

import tomli_w

from thresher.compose.sheet_file import FORMAT, ONE_PER_CORE, PATTERN_FORMS
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, CrashPlan, Gate, Precision, RunSheet, ShapeKind, clock_text

_UNITS = ((1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB"))


def sheet_text(sheet: RunSheet) -> str:
    """Return the file of a run sheet. What stands for itself when it is left out is left out."""
    data: dict[str, Any] = {"format": FORMAT, "title": sheet.title}
    data |= {key: text for key in ("about", "finds", "misses") if (text := getattr(sheet, key))}
    data |= {"repeat": True} if sheet.repeat else {}
    limits = {
        "temperature_c": sheet.limits.temperature_c,
        "stop_after_faults": sheet.limits.stop_after_faults,
    }
    data |= {"limits": found} if (found := {key: value for key, value in limits.items() if value is not None}) else {}
    if sheet.crash != CrashPlan():
        crash = sheet.crash
        data["after_crash"] = {
            "then": crash.then.value,
            "most": crash.most,
            "between_s": crash.between_s,
            "watchdog": crash.watchdog,
        }
    data |= {"reasons": sheet.reasons} if sheet.reasons else {}
    data |= {"gates": [_gate(gate) for gate in sheet.gates]} if sheet.gates else {}
    data["blocks"] = [_block(block) for block in sheet.blocks]
    return tomli_w.dumps(data)


def _time(seconds: float) -> str | float:
    """Whole seconds as a clock, others as a number."""
    return clock_text(seconds) if math.isfinite(seconds) and seconds == round(seconds) and seconds >= 0 else seconds


def _gate(gate: Gate) -> dict[str, Any]:
    data: dict[str, Any] = {
        "kind": gate.kind.value,
        "start": _time(gate.start_s),
        "length": _time(gate.length_s),
        "at_most": _time(gate.at_most_s),
        "within_k": gate.within_k,
    }
    return data | ({"to_c": gate.to_c} if gate.to_c is not None else {})


def _block(block: Block) -> dict[str, Any]:
    if block.is_check:
        times = {"start": _time(block.start_s), "length": _time(block.length_s)}
        return {"row": block.row.value, "check": block.load, **times}
    data: dict[str, Any] = {
        "row": block.row.value,
        "load": block.load,
        "start": _time(block.start_s),
        "length": _time(block.length_s),
        "working_set": block.working_set.value,
    }
    if block.threads or block.one_per_core:
        data["threads"] = block.threads or ONE_PER_CORE
    if block.cores:
        data["cores"] = list(block.cores)
    if block.shape.kind is not ShapeKind.STEADY:
        data |= {"shape": block.shape.kind.value, "period": block.shape.period_s}
        data |= {"duty": block.shape.duty} if block.shape.kind in (ShapeKind.PULSE, ShapeKind.HOP) else {}
    if block.precision is not Precision.DOUBLE:
        data["precision"] = block.precision.value
    if block.hold_c is not None:
        data["hold_c"] = block.hold_c
    if block.row is PartKind.DRIVE:
        del data["working_set"]
        data |= {"drives": list(block.drives)} if block.drives else {}
        data |= {"folder": block.folder} if block.folder else {}
        data |= {"amount": amount_text(block)} if block.amount is not None else {}
    if block.row is PartKind.GRAPHICS:
        del data["working_set"]
        data |= {"cards": list(block.cards)} if block.cards else {}
        data |= {"amount": amount_text(block)} if block.amount is not None else {}
    if block.row is PartKind.MEMORY:
        data |= {"amount": amount_text(block), "patterns": _patterns(block.patterns), "wait": _time(block.wait_s)}
    return data


def amount_text(block: Block) -> str:
    """Return how much memory a block takes, as a sheet has it: "80 %" or "4 GiB"."""
    if block.amount is None:
        return f"{block.share * 100:.6g} %"
    size, unit = next(((size, unit) for size, unit in _UNITS if block.amount % size == 0), _UNITS[-1])
    if block.amount % size:
        return f"{block.amount / size:.12f} {unit}"
    return f"{block.amount // size} {unit}"


def _patterns(patterns: tuple[str, ...]) -> str | list[str]:
    return next((name for name, form in PATTERN_FORMS.items() if form == patterns), list(patterns))
