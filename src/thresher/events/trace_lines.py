"""Traced hardware errors: lines of the kernel's trace, each an event with all its values.

Source of the forms: include/trace/events/mce.h and include/ras/ras_event.h.
"""

import re
from dataclasses import dataclass

from thresher.events.machine_checks.lines import parse_trace_check
from thresher.events.machine_checks.registers import MachineCheck
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind

_LINE = re.compile(r"^\s*.{1,40}?-\d+\s+(?:\(\s*\S+\)\s+)?\[(\d+)\]\s+\S+\s+(\d+\.\d+): (\w+): (.*)$")
_MEMORY = re.compile(
    r"(\d+) (Corrected|Uncorrected|Deferred|Fatal|Info) errors?:(.*?) on (.+?) \(mc:(\d+) location:([-\d:]+)"
    r" address:(0x[0-9a-f]+)"
)
_AER = re.compile(r"(\S+) PCIe Bus Error: severity=(Corrected|Fatal|Uncorrected, non-fatal), (.+?), TLP Header")
_EXTLOG = re.compile(r"\{\d+\} (\w+) error: (.*?) physical addr: ([0-9a-f]+)")
_ARM = re.compile(r"affinity level: (-?\d+); MPIDR: ([0-9a-f]+); MIDR: ([0-9a-f]+); running state: (-?\d+)")
_PAGE = re.compile(r"pfn (0x[0-9a-f]+): recovery action for (.+): (\w+)")


@dataclass(frozen=True, slots=True)
class TracedEvent:
    """One traced event: a machine check, or a finding, or neither when it is no error that is known here."""

    check: MachineCheck | None = None
    finding: Finding | None = None


def parse_trace_line(raw: bytes) -> TracedEvent:
    """Return what a line of the trace reports; never raises."""
    text = raw.decode("utf-8", "replace").rstrip("\r\n")
    line = _LINE.match(text)
    at, name, body = (float(line[2]), line[3], line[4]) if line else (0.0, "", text)
    if not name:
        name, _, body = text.strip().partition(": ")
    if name == "mce_record":
        return TracedEvent(parse_trace_check(f"mce_record: {body}", at))
    made = {
        "mc_event": _memory,
        "aer_event": _link,
        "extlog_mem_event": _extended,
        "arm_event": _other_processor,
        "memory_failure_event": _page,
    }.get(name)
    return TracedEvent(finding=made(body, at, text) if made else None)


def _memory(body: str, at: float, raw: str) -> Finding | None:
    match = _MEMORY.search(body)
    if match is None or match[2] == "Info":
        return None
    corrected = match[2] == "Corrected"
    code = "M-310" if corrected else "M-323" if match[2] == "Deferred" else "M-320"
    kind = FindingKind.MEMORY_CORRECTED if corrected else FindingKind.MEMORY_UNCORRECTED
    label = match[4].strip()
    return Finding(
        code,
        kind,
        Severity.WARNING if corrected else Severity.FAULT,
        PartKind.MEMORY,
        at,
        f"{match[2]} memory error, {label}",
        f"{match[3].strip() or 'memory error'}, controller {match[5]}, location {match[6]}, address {match[7]}",
        label,
        count=max(1, int(match[1])),
        raw=raw,
        address=int(match[7], 16) or None,
    )


def _link(body: str, at: float, raw: str) -> Finding | None:
    match = _AER.search(body)
    if match is None:
        return None
    corrected = match[2] == "Corrected"
    code = "S-510" if corrected else "S-521" if match[2] == "Fatal" else "S-520"
    kind = FindingKind.LINK_CORRECTED if corrected else FindingKind.LINK_UNCORRECTED
    return Finding(
        code,
        kind,
        Severity.WARNING if corrected else Severity.FAULT,
        PartKind.BOARD,
        at,
        f"{match[2]} error on a PCI Express link, {match[1]}",
        match[3],
        match[1],
        raw=raw,
    )


def _extended(body: str, at: float, raw: str) -> Finding | None:
    match = _EXTLOG.search(body)
    if match is None:
        return None
    corrected = match[1].lower() == "corrected"
    kind = FindingKind.MEMORY_CORRECTED if corrected else FindingKind.MEMORY_UNCORRECTED
    return Finding(
        "M-310" if corrected else "M-320",
        kind,
        Severity.WARNING if corrected else Severity.FAULT,
        PartKind.MEMORY,
        at,
        f"Firmware logged a {match[1].lower()} memory error",
        f"{match[2]}, address 0x{match[3]}",
        raw=raw,
        address=int(match[3], 16) or None,
    )


def _other_processor(body: str, at: float, raw: str) -> Finding | None:
    match = _ARM.search(body)
    if match is None:
        return None
    return Finding(
        "P-329",
        FindingKind.UNCORRECTED_CHECK,
        Severity.FAULT,
        PartKind.PROCESSOR,
        at,
        "Error of a processor of another architecture",
        body.strip(),
        f"MPIDR {match[2]}",
        raw=raw,
    )


def _page(body: str, at: float, raw: str) -> Finding | None:
    match = _PAGE.search(body)
    if match is None:
        return None
    return Finding(
        "M-330",
        FindingKind.MEMORY_UNCORRECTED,
        Severity.FAULT,
        PartKind.MEMORY,
        at,
        f"A page of memory was given up, page {match[1]}",
        f"{match[2]}: {match[3]}",
        f"page {match[1]}",
        raw=raw,
        address=int(match[1], 16) << 12,
    )
