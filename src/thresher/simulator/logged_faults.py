"""Faults that loads do not find by comparing: links, graphics, drives. They speak through the kernel's log.

Lines are in the kernel's own forms: drivers/pci/pcie/aer.c, drivers/gpu/drm/amd/amdgpu/amdgpu_job.c,
block/blk-core.c, drivers/ata/libata-eh.c, drivers/edac/edac_mc.c.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from thresher.simulator.drive_faults import DRIVE_LINES, Line
from thresher.simulator.fault_kinds import Fault, FaultKind

_ERROR, _WARNING = 3, 4
_HARDLY = 0.12
"""Links, graphics and drives are used little while the machine idles, and while loads of the processor take it up."""
_LIGHT, _TAKEN_UP = 0.2, 0.6
"""Shares of the processor: up to the one a person works at the machine, from the other on a load does."""

_WORKED_HARD = 6.0
"""How much more a drive is used while it is read, or written and compared, than by a person at the machine."""


def link_line(rng: np.random.Generator) -> Line:
    """Return a line about an error on a PCI Express link, one in ten not corrected."""
    if rng.random() < 0.1:
        return _ERROR, (
            "pcieport 0000:00:1c.4: PCIe Bus Error: severity=Uncorrected (Non-Fatal), type=Transaction Layer, "
            "(Requester ID)"
        )
    return _WARNING, "pcieport 0000:00:1c.4: PCIe Bus Error: severity=Corrected, type=Physical Layer, (Receiver ID)"


def hang_line(rng: np.random.Generator) -> Line:
    """Return a line about work of a graphics card that did not come back."""
    done = int(rng.integers(1000, 900_000))
    return _ERROR, (
        f"[drm:amdgpu_job_timedout [amdgpu]] *ERROR* ring gfx_0.0.0 timeout, signaled seq={done}, "
        f"emitted seq={done + int(rng.integers(1, 4))}"
    )


def _stray(rng: np.random.Generator) -> Line:
    """What healthy machines say now and then: one corrected error of this kind or that, which nothing follows from."""
    kinds: tuple[Callable[[np.random.Generator], Line], ...] = (hang_line, _stray_cable, _stray_link, _stray_memory)
    return kinds[int(rng.integers(0, len(kinds)))](rng)


def _stray_cable(rng: np.random.Generator) -> Line:
    return DRIVE_LINES[FaultKind.DRIVE_CABLE](rng, "")


def _stray_link(_rng: np.random.Generator) -> Line:
    return _WARNING, "pcieport 0000:00:1c.4: PCIe Bus Error: severity=Corrected, type=Physical Layer, (Receiver ID)"


def _stray_memory(rng: np.random.Generator) -> Line:
    page = int(rng.integers(1 << 8, 1 << 22))
    return _WARNING, (
        f"EDAC MC0: 1 CE memory read error on mc#0csrow#0channel#0 (csrow:0 channel:0 page:{page:#x} offset:0x4c0 "
        "grain:64 syndrome:0x9a)"
    )


TALKS: dict[FaultKind, Callable[[np.random.Generator], Line]] = {
    FaultKind.SLOT_LINK: link_line,
    FaultKind.GRAPHICS_HANGS: hang_line,
    FaultKind.STRAY_ERRORS: _stray,
}


@dataclass(slots=True)
class Talker:
    """One such fault at work."""

    fault: Fault
    rng: np.random.Generator
    drive: str = ""

    def step(self, busy: float, seconds: float, drive_use: float = 0.0) -> list[Line]:
        """Return what it says in a slice of time.

        `busy` is the share of the processor that is taken, `drive_use` that of the time that the drive works, 0 to 1.
        """
        by_person = float(np.clip((_TAKEN_UP - busy) / (_TAKEN_UP - _LIGHT), 0.0, 1.0)) if busy > 0.01 else 0.0
        used = _HARDLY + (1.0 - _HARDLY) * by_person
        if self.fault.kind in DRIVE_LINES:
            used = max(used, _WORKED_HARD * drive_use)
        return [self._say() for _ in range(int(self.rng.poisson(self.fault.strength * used * seconds / 3600.0)))]

    def _say(self) -> Line:
        about_drive = DRIVE_LINES.get(self.fault.kind)
        return about_drive(self.rng, self.drive) if about_drive is not None else TALKS[self.fault.kind](self.rng)
