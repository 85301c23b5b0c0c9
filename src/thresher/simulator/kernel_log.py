"""The kernel log of a simulated machine: records as `/dev/kmsg` gives them, lines as the kernel prints them."""

from dataclasses import dataclass, field

_EMERG, _WARNING, _INFO = 0, 4, 6


@dataclass(slots=True)
class LogBuffer:
    """All records so far; readers keep their own position."""

    records: list[bytes] = field(default_factory=list)
    traced: list[bytes] = field(default_factory=list)

    def add(self, at: float, level: int, text: str) -> None:
        """Append one record at a machine time in seconds (ABI/testing/dev-kmsg: priority, sequence, µs, flags)."""
        self.records.append(f"{level},{len(self.records)},{int(at * 1e6)},-;{text}\n".encode())

    def add_boot(self, machine: str, at: float = 0.0) -> None:
        """Append the first lines of a boot."""
        self.add(at, 5, "Linux version 6.1.0-bench (bench@model) #1 SMP PREEMPT_DYNAMIC")
        self.add(at + 0.2, _INFO, f"DMI: {machine}")
        self.add(at + 0.4, _INFO, "mce: CPU0: Thermal monitoring enabled (TM1)")

    def add_lockup(self, at: float, cpu: int, seconds: int) -> None:
        """Append the watchdog's line (kernel/watchdog.c) about a CPU that schedules nothing any more."""
        self.add(at, _EMERG, f"watchdog: BUG: soft lockup - CPU#{cpu} stuck for {seconds}s! [thresher:1]")

    def add_machine_check(self, at: float, wall: float, cpu: int, apic: int, bank: int, status: int, addr: int) -> None:
        """Append a corrected machine check as the kernel prints one, and as its trace event shows it.

        Sources: arch/x86/kernel/cpu/mce/core.c; include/trace/events/mce.h (`mce_record`).
        """
        head = "mce: [Hardware Error]: "
        self.add(at, _INFO, f"{head}Machine check events logged")
        self.add(at, _EMERG, f"{head}CPU {cpu}: Machine Check: 0 Bank {bank}: {status:016x}")
        self.add(at, _EMERG, f"{head}TSC {int(at * 4.2e9):x} ADDR {addr:x} MISC 86 ")
        self.add(at, _EMERG, f"{head}PROCESSOR 0:b0671 TIME {int(wall)} SOCKET 0 APIC {apic:x} microcode 12b")
        registers = f"MC{bank}: {status:016x}, IPID: {0:016x}, ADDR/MISC/SYND: {addr:016x}/{0x86:016x}/{0:016x}"
        moment = f"TSC: {int(at * 4.2e9):x}, PROCESSOR: 0:b0671, TIME: {int(wall)}, SOCKET: 0, APIC: {apic:x}"
        self.traced.append(
            f"          <idle>-0       [{cpu:03d}] d.h1. {at:12.6f}: mce_record: CPU: {cpu}, MCGc/s: f0c14/0, "
            f"{registers}, RIP: 00:<{0:016x}>, {moment}".encode()
        )

    def add_throttle(self, at: float, cpu: int, count: int) -> None:
        """Append the thermal interrupt's line (drivers/thermal/intel/therm_throt.c)."""
        text = f"CPU{cpu}: Package temperature is above threshold, cpu clock is throttled (total events = {count})"
        self.add(at, _WARNING, text)


class LogReader:
    """A reader with its own position, as every open of `/dev/kmsg` has."""

    lost = 0

    def __init__(self, lines: list[bytes]) -> None:
        """Start at the oldest record of a log or trace that grows."""
        self._lines = lines
        self._next = 0

    def read_records(self) -> list[bytes]:
        """Return what came since the last call."""
        records = self._lines[self._next :]
        self._next += len(records)
        return records

    def close(self) -> None:
        """Nothing is held open."""
