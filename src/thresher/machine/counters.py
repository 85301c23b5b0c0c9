"""The processor's own clock counters of this computer: by perf events, else by the model-specific registers.

Sources: perf_event_open(2); kernel document ABI/testing/sysfs-bus-event_source-devices-events; the registers
IA32_TIME_STAMP_COUNTER (10H), IA32_MPERF (E7H) and IA32_APERF (E8H), which both vendors have at these numbers.
"""

import ctypes
import os
import re
import struct
from pathlib import Path

from thresher.machine.access import AccessClient
from thresher.machine.files import reason_of
from thresher.model.errors import SourceUnavailable

_PMU = "/sys/bus/event_source/devices/msr"
_NAMES = ("aperf", "mperf", "tsc")
COUNTERS = (0xE8, 0xE7, 0x10)
_SYSCALLS = {"x86_64": 298, "aarch64": 241}
"""Number of perf_event_open by machine (the kernel's syscall tables)."""
_ATTR_BYTES = 64
"""Size of the first published perf_event_attr (PERF_ATTR_SIZE_VER0), all that is needed here."""


class PerfCounters:
    """Three counters of one CPU, counted by the kernel."""

    def __init__(self, cpu: int) -> None:
        """Open them. Raises SourceUnavailable."""
        self.path = f"{_PMU} on CPU {cpu}"
        self._fds: list[int] = []
        number = _SYSCALLS.get(os.uname().machine)
        if number is None:
            raise SourceUnavailable(self.path, "perf events are not known for this kind of processor")
        library = ctypes.CDLL(None, use_errno=True)
        for kind, config in self._events():
            attr = struct.pack("<IIQ", kind, _ATTR_BYTES, config).ljust(_ATTR_BYTES, b"\0")
            fd = library.syscall(ctypes.c_long(number), attr, -1, cpu, -1, 8)  # 8: PERF_FLAG_FD_CLOEXEC
            if fd < 0:
                code = ctypes.get_errno()
                self.close()
                hint = "; needs root, or kernel.perf_event_paranoid at 0" if code in (1, 13) else ""
                raise SourceUnavailable(self.path, reason_of(OSError(code, os.strerror(code))) + hint)
            self._fds.append(fd)

    def _events(self) -> list[tuple[int, int]]:
        try:
            kind = int(Path(f"{_PMU}/type").read_text(encoding="ascii"))
            configs = [Path(f"{_PMU}/events/{name}").read_text(encoding="ascii") for name in _NAMES]
        except (OSError, ValueError) as error:
            reason = "the kernel offers no aperf and mperf counters for this processor"
            raise SourceUnavailable(self.path, reason) from error
        numbers = [re.search(r"event=0x([0-9a-f]+)", config) for config in configs]
        if not all(numbers):
            raise SourceUnavailable(self.path, "the kernel describes its counters in a way not known here")
        return [(kind, int(found[1], 16)) for found in numbers if found]

    def read(self) -> bytes:
        """Return the three counters as decimal numbers."""
        try:
            counts = [struct.unpack("<Q", os.read(fd, 8))[0] for fd in self._fds]
        except (OSError, struct.error) as error:
            reason = reason_of(error) if isinstance(error, OSError) else "the CPU is offline"
            raise SourceUnavailable(self.path, reason) from error
        return " ".join(str(count) for count in counts).encode()

    def close(self) -> None:
        """Close the counters; closing twice does nothing."""
        for fd in self._fds:
            os.close(fd)
        self._fds = []


class Registers:
    """Model-specific registers of one CPU, read from `/dev/cpu/N/msr`, as decimal numbers."""

    def __init__(self, cpu: int, numbers: tuple[int, ...]) -> None:
        """Open the registers and try them. Raises SourceUnavailable."""
        self.path = f"/dev/cpu/{cpu}/msr"
        self._numbers = numbers
        self._fd = -1
        try:
            self._fd = os.open(self.path, os.O_RDONLY | os.O_CLOEXEC)
        except OSError as error:
            hint = "; the kernel module msr would change that" if isinstance(error, FileNotFoundError) else ""
            raise SourceUnavailable(self.path, reason_of(error) + hint) from error
        try:
            self.read()
        except SourceUnavailable:
            self.close()
            raise

    def read(self) -> bytes:
        """Return the registers as decimal numbers."""
        try:
            found = [struct.unpack("<Q", os.pread(self._fd, 8, number))[0] for number in self._numbers]
        except (OSError, struct.error) as error:
            reason = reason_of(error) if isinstance(error, OSError) else "the register gave no whole number"
            raise SourceUnavailable(self.path, reason) from error
        return " ".join(str(value) for value in found).encode()

    def close(self) -> None:
        """Close the registers; closing twice does nothing."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


class HelperRegisters:
    """Model-specific registers of one CPU, read by the access helper, as decimal numbers."""

    def __init__(self, helper: AccessClient, cpu: int, numbers: tuple[int, ...]) -> None:
        """Try the registers. Raises SourceUnavailable."""
        self.path = f"/dev/cpu/{cpu}/msr"
        self._helper, self._cpu, self._numbers = helper, cpu, numbers
        self.read()

    def read(self) -> bytes:
        """Return the registers as decimal numbers. Raises SourceUnavailable."""
        return " ".join(str(self._helper.read_register(self._cpu, number)) for number in self._numbers).encode()

    def close(self) -> None:
        """Nothing is held for one CPU."""


def open_counters(cpu: int) -> PerfCounters | Registers:
    """Open a CPU's counters by the first way that works. Raises SourceUnavailable with both reasons."""
    try:
        return PerfCounters(cpu)
    except SourceUnavailable as first:
        try:
            return Registers(cpu, COUNTERS)
        except SourceUnavailable as second:
            raise SourceUnavailable(first.path, f"{first.reason}; {second.path}: {second.reason}") from second
