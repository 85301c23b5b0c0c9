"""Counters of errors that the kernel keeps: memory by controller and module, PCI Express links by device.

Kernel documents admin-guide/ras (EDAC, `ce_count`, `dimm_ce_count`, labels) and
ABI/testing/sysfs-bus-pci-devices-aer_stats (`aer_dev_correctable`, `aer_dev_nonfatal`, `aer_dev_fatal`).
"""

import re
from dataclasses import dataclass

from thresher.model.errors import SourceUnavailable
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Fact, PartKind
from thresher.model.port import System, optional_number, optional_text

EDAC = "/sys/devices/system/edac/mc"
PCI = "/sys/bus/pci/devices"
MACHINE_CHECKS = "/sys/devices/system/machinecheck"
_AER_FILES = (("aer_dev_correctable", "S-510"), ("aer_dev_nonfatal", "S-520"), ("aer_dev_fatal", "S-521"))
_AER_LINE = re.compile(rb"^(\S+)\s+(\d{1,20})$", re.MULTILINE)
_TOTAL = b"TOTAL_ERR"


@dataclass(frozen=True, slots=True)
class ErrorCounter:
    """One counter: its file, the fault code that its counts are, the place, and how high it stands."""

    path: str
    code: str
    place: str
    count: int


def read_error_counters(system: System) -> dict[str, ErrorCounter]:
    """Return every counter of errors, by file; those that are not there are left out."""
    return {each.path: each for each in (*_memory_counters(system), *_link_counters(system))}


def _memory_counters(system: System) -> list[ErrorCounter]:
    """Return the counts of modules, and of controllers what no module was named for."""
    found = []
    for controller in system.list(EDAC):
        if not re.fullmatch(r"mc\d+", controller):
            continue
        for name in system.list(f"{EDAC}/{controller}"):
            if not re.fullmatch(r"(?:dimm|rank)\d+", name):
                continue
            folder = f"{EDAC}/{controller}/{name}"
            label = optional_text(system, f"{folder}/dimm_label") or f"{controller} {name}"
            for file, code in (("dimm_ce_count", "M-310"), ("dimm_ue_count", "M-320")):
                count = optional_number(system, f"{folder}/{file}")
                if count is not None:
                    found.append(ErrorCounter(f"{folder}/{file}", code, label, count))
        for file, code in (("ce_noinfo_count", "M-310"), ("ue_noinfo_count", "M-320")):
            path = f"{EDAC}/{controller}/{file}"
            count = optional_number(system, path)
            if count is not None:
                found.append(ErrorCounter(path, code, f"controller {controller.removeprefix('mc')}", count))
    return found


def _link_counters(system: System) -> list[ErrorCounter]:
    found = []
    for device in system.list(PCI):
        for file, code in _AER_FILES:
            path = f"{PCI}/{device}/{file}"
            try:
                content = system.read(path)
            except SourceUnavailable:
                continue
            lines = [(name, int(count)) for name, count in _AER_LINE.findall(content)]
            totals = [count for name, count in lines if name.startswith(_TOTAL)]
            count = totals[0] if totals else sum(count for _, count in lines)
            found.append(ErrorCounter(path, code, device, count))
    return found


def finding_of_rise(counter: ErrorCounter, rise: int, at: float) -> Finding:
    """Return the finding of a counter that went up without a line of the log."""
    memory = counter.code.startswith("M-")
    corrected = counter.code in ("M-310", "S-510")
    if memory:
        kind = FindingKind.MEMORY_CORRECTED if corrected else FindingKind.MEMORY_UNCORRECTED
    else:
        kind = FindingKind.LINK_CORRECTED if corrected else FindingKind.LINK_UNCORRECTED
    what = ("Corrected" if corrected else "Uncorrected") + (" memory error" if memory else " error on a link")
    return Finding(
        counter.code,
        kind,
        Severity.WARNING if corrected else Severity.FAULT,
        PartKind.MEMORY if memory else PartKind.BOARD,
        at,
        f"{what}, {counter.place}",
        f"the counter rose from {counter.count - rise} to {counter.count}; the log has no line about it",
        counter.place,
        count=rise,
        raw=f"{counter.path}: {counter.count}",
    )


def check_settings(system: System) -> list[Fact]:
    """Return how machine checks are reported here: settings that keep corrected errors from being seen are named so.

    Kernel document ABI/testing/sysfs-mce: `check_interval`, `ignore_ce`, `dont_log_ce`, `cmci_disabled`.
    """
    facts = []
    for folder in system.list(MACHINE_CHECKS)[:1]:
        here = f"{MACHINE_CHECKS}/{folder}"
        interval = optional_number(system, f"{here}/check_interval")
        if interval is not None:
            words = f"every {interval} s" if interval else "never: corrected errors are found only by interrupt"
            facts.append(
                Fact("X-881" if interval == 0 else "polled for corrected errors", words, f"{here}/check_interval")
            )
        for file, words in (
            ("ignore_ce", "corrected machine checks are ignored"),
            ("dont_log_ce", "corrected machine checks are not logged"),
        ):
            if optional_number(system, f"{here}/{file}"):
                facts.append(Fact("X-880", words, f"{here}/{file}"))
        if optional_number(system, f"{here}/cmci_disabled"):
            facts.append(Fact("interrupt for corrected errors", "off, they are polled", f"{here}/cmci_disabled"))
    return facts
