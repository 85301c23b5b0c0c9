"""Lines about drives: the kernel names one drive in many ways, and reports one bad sector in many lines."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from thresher.model.findings import Finding, FindingKind
from thresher.model.parts import PartKind
from thresher.model.port import System

BLOCK = "/sys/block"
_BURST_S = 5.0
"""Lines about one failed request come within this of each other: the kernel tries several times."""
_SECTORS_ALIKE = 8
"""Sectors of 512 bytes in one physical sector of 4096 bytes."""
_MOST_SECTORS = 4096
_FOLLOWS = "D-312"
"""The code of requests that failed, which says less than the lines before it."""
_NVME = re.compile(r"(nvme\d+)(?:c\d+)?n\d+")
_PARTITION = re.compile(r"((?:sd|hd|vd)[a-z]+)\d+|((?:nvme\d+n\d+|mmcblk\d+))p\d+")
_PORT = re.compile(r"/ata(\d+)/")
_TARGET = re.compile(r"/(\d+):(\d+):(\d+):(\d+)/block/")


def drive_names(system: System) -> dict[str, str]:
    """Return the block device behind each name that the kernel may use in its lines, as far as it is one drive.

    Names are those of ports (`ata3`, `ata3.00`), controllers (`nvme0`), SCSI addresses (`2:0:0:0`), partitions, and
    volumes over a single drive (`dm-0`, `md127`).
    """
    names: dict[str, str] = {}
    devices = system.list(BLOCK)
    for device in devices:
        path = f"{system.resolve(f'{BLOCK}/{device}')}/"
        names[device] = device
        if port := _PORT.search(path):
            names[f"ata{port[1]}"] = device
            target = _TARGET.search(path)
            names[f"ata{port[1]}.{int(target[3]) if target else 0:02}"] = device
        if target := _TARGET.search(path):
            names[":".join(target.groups())] = device
        if controller := _NVME.fullmatch(device):
            names.setdefault(controller[1], device)
        for inside in system.list(f"{BLOCK}/{device}"):
            if inside.startswith(device):
                names[inside] = device
    for device in devices:
        below = {names.get(name, name) for name in _drives_below(system, device)}
        if len(below) == 1:
            names[device] = below.pop()
    return names


def _drives_below(system: System, device: str, depth: int = 0) -> set[str]:
    """Return the drives that a volume lies on; none for a drive."""
    slaves = system.list(f"{BLOCK}/{device}/slaves") if depth < 8 else []
    found: set[str] = set()
    for slave in slaves:
        found |= _drives_below(system, slave, depth + 1) or {slave}
    return found


def whole_drive(name: str) -> str:
    """Return the drive of a partition's name, by the name alone; other names as they are."""
    match = _PARTITION.fullmatch(name)
    return match[1] or match[2] if match else name


@dataclass(slots=True)
class _Burst:
    """What was last reported of a drive: when, and whether the failed sector has been named."""

    last: float
    named: bool
    sectors: dict[int, None] = field(default_factory=dict)


class DriveLines:
    """Puts lines about drives down to the drive and lets each bad sector and each hiccup count once."""

    def __init__(self, names: Mapping[str, str] | None = None) -> None:
        """`names` is what `drive_names` returned for this machine; a log from elsewhere has none."""
        self._names = dict(names or {})
        self._bursts: dict[tuple[str, FindingKind], _Burst] = {}

    def take(self, finding: Finding, sector: int | None) -> Finding | None:
        """Return the finding with the drive as its place; None when it repeats what was reported already."""
        if finding.part is not PartKind.DRIVE:
            return finding
        drive = self._drive_of(finding.place)
        if drive != finding.place:
            title = finding.title.removesuffix(f", {finding.place}") + f", {drive} ({finding.place})"
            finding = replace(finding, place=drive, title=title)
        return finding if self._is_new(finding, sector) else None

    def _drive_of(self, place: str) -> str:
        if place in self._names:
            return self._names[place]
        whole = whole_drive(place)
        if whole in self._names:
            return self._names[whole]
        if controller := _NVME.fullmatch(whole):  # the controller and its namespace are one drive
            return self._names.get(controller[1], f"{controller[1]}n1")
        return f"{whole}n1" if re.fullmatch(r"nvme\d+", whole) else whole

    def _is_new(self, finding: Finding, sector: int | None) -> bool:
        if finding.code == _FOLLOWS and self._just_failed(finding):
            return False
        key = finding.place, finding.kind
        burst = self._bursts.get(key)
        if burst is None:
            burst = self._bursts[key] = _Burst(finding.at, sector is not None)
            burst.sectors.update({sector // _SECTORS_ALIKE: None} if sector is not None else {})
            return True
        together = finding.at - burst.last <= _BURST_S
        burst.last = finding.at
        if sector is None:
            if together:
                return False
            burst.named = False
            return True
        near = sector // _SECTORS_ALIKE
        if near in burst.sectors:
            return False
        if len(burst.sectors) >= _MOST_SECTORS:
            burst.sectors.pop(next(iter(burst.sectors)))
        burst.sectors[near] = None
        belongs = together and not burst.named  # the line that names the sector of the failure before it
        burst.named = True
        return not belongs

    def _just_failed(self, finding: Finding) -> bool:
        """Whether a line just before said why the request failed."""
        return any(
            place == finding.place and 0 <= finding.at - burst.last <= _BURST_S
            for (place, _), burst in self._bursts.items()
        )
