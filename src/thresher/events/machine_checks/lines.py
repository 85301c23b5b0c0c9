"""The lines in which kernels report machine checks, put together into registers.

Line formats: arch/x86/kernel/cpu/mce/core.c (`__print_mce`), drivers/edac/mce_amd.c, and the trace event `mce_record`
(include/trace/events/mce.h).
"""

import re
from collections.abc import Iterable
from dataclasses import replace

from thresher.events.kernel_log import KernelRecord
from thresher.events.machine_checks.registers import MachineCheck
from thresher.model.vendors import Vendor

MARK = "[Hardware Error]"
"""What every line of a machine check in the log has."""

_CPU_LINE = re.compile(
    r"CPU (\d{1,6}): Machine Check(?: Exception)?: ([0-9a-fA-F]{1,16}) Bank (\d{1,3}): ([0-9a-fA-F]{1,16})"
)
_REGISTER = re.compile(r"\b(TSC|ADDR|MISC|SYND|IPID) (?:0x)?([0-9a-fA-F]{1,16})\b")
_PROCESSOR_LINE = re.compile(
    r"PROCESSOR (\d{1,3}):([0-9a-fA-F]{1,8}) TIME (\d{1,20}) SOCKET (\d{1,10}) APIC ([0-9a-fA-F]{1,8})"
    r"(?: microcode ([0-9a-fA-F]{1,8}))?"
)
_AMD_LINE = re.compile(
    r"CPU:(\d{1,6}) \(([0-9a-f]{1,4}):([0-9a-f]{1,4}):([0-9a-f]{1,4})\) MC(\d{1,3})_STATUS\[[^\]]{0,200}\]:"
    r" 0x([0-9a-fA-F]{1,16})"
)
_AMD_ADDRESS = re.compile(r"Error Addr: 0x([0-9a-fA-F]{1,16})")
_AMD_IPID = re.compile(r"IPID: 0x([0-9a-fA-F]{1,16})(?:, Syndrome: 0x([0-9a-fA-F]{1,16}))?")
_AMD_LAST = "cache level:"
_TRACE = re.compile(
    r"mce_record: CPU: (\d{1,6}), MCGc/s: ([0-9a-f]{1,16})/([0-9a-f]{1,16}), MC(\d{1,3}): ([0-9a-f]{1,16}),(.*)"
)
_TRACE_TRIPLE = re.compile(r"ADDR/MISC/SYND: ([0-9a-f]{1,16})/([0-9a-f]{1,16})/([0-9a-f]{1,16})")
_TRACE_VALUE = re.compile(r"\b(IPID|TSC|TIME|SOCKET|APIC|microcode): (?:0x)?([0-9a-f]{1,20})")
_TRACE_PROCESSOR = re.compile(r"PROCESSOR: (\d{1,3}):([0-9a-f]{1,8})")
_VENDORS = {0: Vendor.INTEL, 2: Vendor.AMD, 9: Vendor.AMD}
_MOST_LINES = 12
"""Lines of one check kept with it; a log that was cut off in the middle must not grow one for ever."""


class MachineCheckAssembler:
    """Joins the lines that the kernel prints for one machine check; feed it records in order."""

    def __init__(self) -> None:
        """Start with nothing pending."""
        self._pending: MachineCheck | None = None

    def feed(self, records: Iterable[KernelRecord]) -> list[MachineCheck]:
        """Take in records and return the machine checks that are complete now."""
        done: list[MachineCheck] = []
        for record in records:
            if MARK in record.text:
                done += self._take(record)
        return done

    def flush(self) -> list[MachineCheck]:
        """Return what is pending although its last line never came."""
        pending, self._pending = self._pending, None
        return [pending] if pending else []

    def _take(self, record: KernelRecord) -> list[MachineCheck]:
        text = record.text
        if start := _CPU_LINE.search(text):
            done = self.flush()
            self._pending = MachineCheck(
                cpu=int(start[1]),
                mcg_status=int(start[2], 16),
                bank=int(start[3]),
                status=int(start[4], 16),
                at=record.time,
                raw=(text,),
            )
            return done
        if start := _AMD_LINE.search(text):
            done = self.flush()
            self._pending = MachineCheck(
                cpu=int(start[1]),
                bank=int(start[5]),
                status=int(start[6], 16),
                at=record.time,
                vendor=Vendor.AMD,
                cpuid=signature(int(start[2], 16), int(start[3], 16), int(start[4], 16)),
                raw=(text,),
            )
            return done
        if self._pending is None:
            return []
        return self._continue(self._pending, text)

    def _continue(self, pending: MachineCheck, text: str) -> list[MachineCheck]:
        raw = (*pending.raw, text)[:_MOST_LINES]
        if last := _PROCESSOR_LINE.search(text):
            self._pending = replace(
                pending,
                vendor=_VENDORS.get(int(last[1]), Vendor.UNKNOWN),
                cpuid=int(last[2], 16),
                unix_time=int(last[3]),
                socket=int(last[4]),
                apic=int(last[5], 16),
                microcode=int(last[6], 16) if last[6] else None,
                raw=raw,
            )
            return self.flush()
        if address := _AMD_ADDRESS.search(text):
            self._pending = replace(pending, address=int(address[1], 16), raw=raw)
        elif found := _AMD_IPID.search(text):
            synd = int(found[2], 16) if found[2] else None
            self._pending = replace(pending, ipid=int(found[1], 16), syndrome=synd, raw=raw)
        elif _AMD_LAST in text and pending.vendor is Vendor.AMD:
            self._pending = replace(pending, raw=raw)
            return self.flush()
        elif reported := dict(_REGISTER.findall(text)):
            value = {name: int(digits, 16) for name, digits in reported.items()}
            self._pending = replace(
                pending,
                tsc=value.get("TSC", pending.tsc),
                address=value.get("ADDR", pending.address),
                misc=value.get("MISC", pending.misc),
                syndrome=value.get("SYND", pending.syndrome),
                ipid=value.get("IPID", pending.ipid),
                raw=raw,
            )
        elif pending.vendor is Vendor.AMD:
            self._pending = replace(pending, raw=raw)
        return []


def signature(family: int, model: int, stepping: int) -> int:
    """Return the CPUID signature (leaf 1, EAX) of a family, model and stepping."""
    base, extended = min(family, 15), max(0, family - 15)
    return extended << 20 | (model >> 4) << 16 | base << 8 | (model & 0xF) << 4 | (stepping & 0xF)


def parse_trace_check(text: str, at: float | None) -> MachineCheck | None:
    """Return the machine check of a `mce_record` trace line, None for another line."""
    match = _TRACE.search(text)
    if match is None:
        return None
    rest = match[6]
    value = dict(_TRACE_VALUE.findall(rest))
    triple, processor = _TRACE_TRIPLE.search(rest), _TRACE_PROCESSOR.search(rest)
    status = int(match[5], 16)
    vendor = _VENDORS.get(int(processor[1]), Vendor.UNKNOWN) if processor else Vendor.UNKNOWN
    # registers that the status calls empty are printed as 0
    address, misc, synd = (int(each, 16) for each in triple.groups()) if triple else (0, 0, 0)
    ipid = int(value["IPID"], 16) if "IPID" in value else 0
    return MachineCheck(
        cpu=int(match[1]),
        bank=int(match[4]),
        status=status,
        at=at,
        mcg_cap=int(match[2], 16),
        mcg_status=int(match[3], 16),
        address=address if status >> 58 & 1 else None,
        misc=misc if status >> 59 & 1 else None,
        syndrome=synd or None,
        ipid=ipid or None,
        vendor=vendor,
        tsc=int(value["TSC"], 16) if "TSC" in value else None,
        cpuid=int(processor[2], 16) if processor else None,
        unix_time=int(value["TIME"]) if value.get("TIME", "").isdigit() else None,
        socket=int(value["SOCKET"]) if value.get("SOCKET", "").isdigit() else None,
        apic=int(value["APIC"], 16) if "APIC" in value else None,
        microcode=int(value["microcode"], 16) if "microcode" in value else None,
        raw=(text.strip(),),
    )
