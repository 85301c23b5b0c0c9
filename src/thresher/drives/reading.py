"""Asking a drive for everything it reports about itself, page by page; what it refuses is listed with the reason."""

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import TypeVar

from thresher.drives import ata, nvme, scsi
from thresher.drives.fields import DamagedPage
from thresher.drives.health import (
    AtaPages,
    DriveHealth,
    DriveStatus,
    Figure,
    Meaning,
    NvmePages,
    Sign,
    ata_health,
    flash_health,
    nvme_health,
    scsi_health,
)
from thresher.model.drive_commands import AtaCommand, DrivePort, NoAnswer, NvmeCommand, ScsiCommand
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Part, PartKind
from thresher.model.port import System, optional_number

T = TypeVar("T")

_PAGES = {
    1: AtaCommand.STATISTICS_GENERAL,
    3: AtaCommand.STATISTICS_ROTATING,
    4: AtaCommand.STATISTICS_ERRORS,
    5: AtaCommand.STATISTICS_TEMPERATURE,
    6: AtaCommand.STATISTICS_TRANSPORT,
    7: AtaCommand.STATISTICS_SOLID_STATE,
}


class Family(StrEnum):
    """By which commands a drive is asked."""

    ATA = "ATA"
    NVME = "NVMe"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class Drive:
    """A drive of the inventory, with the device that is asked and by which commands."""

    part: Part
    family: Family
    path: str
    why_not: str = ""


def drives_of(parts: tuple[Part, ...]) -> tuple[Drive, ...]:
    """Return the drives of a machine with how each can be asked."""
    return tuple(_drive(part) for part in parts if part.kind is PartKind.DRIVE)


def _drive(part: Part) -> Drive:
    name = part.place
    transport = next((fact.value for fact in part.facts if fact.name == "transport"), "")
    if name.startswith("nvme"):
        return Drive(part, Family.NVME, f"/dev/{_controller(name)}")
    if name.startswith("sd"):
        return Drive(part, Family.ATA, f"/dev/{name}")
    kinds = {"mmc": "an SD card or soldered flash reports its life in sysfs only", "vd": "a virtual disk has no health"}
    why = next((words for start, words in kinds.items() if name.startswith(start)), "its kind takes no such commands")
    return Drive(part, Family.NONE, f"/dev/{name}", why if not transport else f"{why} ({transport})")


def _controller(namespace: str) -> str:
    """Return the controller of a namespace: nvme0n1 belongs to nvme0."""
    number = namespace.removeprefix("nvme").partition("n")[0]
    return f"nvme{number}"


def read_health(system: System, drive: Drive) -> DriveHealth:
    """Ask a drive for its health. It may take many seconds: never on the engine's or the window's thread."""
    if drive.part.fact("used") or drive.part.fact("reserve"):
        return flash_health(drive.part.fact("used"), drive.part.fact("reserve"), drive.path)
    if drive.family is Family.NONE:
        return DriveHealth(DriveStatus.UNKNOWN, (), (), (Figure("health", drive.why_not, drive.path),))
    try:
        port = system.open_drive(drive.path)
    except NoAnswer as error:
        return _silent(error, [])
    except SourceUnavailable as error:
        return DriveHealth(DriveStatus.UNKNOWN, (), (), (Figure("health", error.reason, error.path),))
    asked = _Asked()
    try:
        return _ata(port, asked) if drive.family is Family.ATA else _nvme(port, asked)
    except NoAnswer as error:
        return _silent(error, asked.not_read)
    finally:
        port.close()


def _silent(error: NoAnswer, not_read: list[Figure]) -> DriveHealth:
    words = f"the drive does not answer: {error.reason}"
    sign = Sign(DriveStatus.COPY, Meaning.ELECTRONICS, words, error.path)
    return DriveHealth(DriveStatus.COPY, (sign,), (), tuple(not_read))


class _Asked:
    """What was asked, and what of it could not be had."""

    def __init__(self) -> None:
        self.not_read: list[Figure] = []

    def page(self, what: str, ask: Callable[[], bytes], parse: Callable[[bytes], T]) -> T | None:
        """Return a page as it parses, None where the drive refuses it or it is damaged, which is noted.

        Raises NoAnswer: after that nothing else need be asked.
        """
        try:
            return parse(ask())
        except NoAnswer:
            raise
        except SourceUnavailable as error:
            self.not_read.append(Figure(what, error.reason, error.path))
        except DamagedPage as error:
            self.not_read.append(Figure(what, "; ".join(fault.message for fault in error.faults), error.source))
        return None


def _ata(port: DrivePort, asked: _Asked) -> DriveHealth:
    def page(what: str, command: AtaCommand, parse: Callable[[bytes], T]) -> T | None:
        return asked.page(what, lambda: port.ata(command).data, parse)

    identity = page("identity", AtaCommand.IDENTIFY, ata.parse_identity)
    if identity is None:
        return _scsi(port, asked)
    if not identity.has_smart:
        asked.not_read.append(Figure("SMART", "the drive has none", "identify"))
        return ata_health(AtaPages(identity), tuple(asked.not_read))
    exceeded: bool | None = None
    try:
        answer = port.ata(AtaCommand.SMART_STATUS)
        exceeded = ata.threshold_exceeded(answer.lba) if answer.lba is not None else None
    except NoAnswer:
        raise
    except SourceUnavailable as error:
        asked.not_read.append(Figure("SMART status", error.reason, error.path))
    logs = identity.general_logs
    pages = AtaPages(
        identity,
        page("SMART data", AtaCommand.SMART_DATA, ata.parse_smart),
        page("SMART thresholds", AtaCommand.SMART_THRESHOLDS, ata.parse_thresholds),
        exceeded,
        page("error log", AtaCommand.EXTENDED_ERROR_LOG, ata.parse_extended_error_log)
        if logs
        else page("error log", AtaCommand.ERROR_LOG, ata.parse_error_log),
        page("self-test log", AtaCommand.EXTENDED_SELF_TEST_LOG, ata.parse_extended_self_tests)
        if logs
        else page("self-test log", AtaCommand.SELF_TEST_LOG, ata.parse_self_tests),
        _statistics(port, asked) if logs else None,
        page("pending defects", AtaCommand.PENDING_DEFECTS, ata.parse_pending) if logs else None,
        page("link event counters", AtaCommand.LINK_COUNTERS, ata.parse_link_counters) if logs else None,
    )
    return ata_health(pages, tuple(asked.not_read))


def _scsi(port: DrivePort, asked: _Asked) -> DriveHealth:
    """Ask a drive that takes no ATA commands: a SCSI drive, or a bridge that hides what is behind it."""
    why = asked.not_read[-1]

    def page(what: str, command: ScsiCommand, parse: Callable[[bytes], T]) -> T | None:
        return asked.page(what, lambda: port.scsi(command), parse)

    temperature = page("temperature", ScsiCommand.TEMPERATURE, scsi.parse_temperature) or (None, None)
    reads = page("read errors", ScsiCommand.READ_ERRORS, lambda data: scsi.parse_errors(data, scsi.READ_ERRORS))
    writes = page("write errors", ScsiCommand.WRITE_ERRORS, lambda data: scsi.parse_errors(data, scsi.WRITE_ERRORS))
    starts = page("starts and stops", ScsiCommand.START_STOP, scsi.parse_start_stop)
    exceptions = page("exceptions", ScsiCommand.EXCEPTIONS, scsi.parse_exceptions)
    if all(each is None for each in (*temperature, reads, writes, starts, exceptions)):
        words = f"{why.value}; the bridge hides the drive: read it on a port of the board"
        return DriveHealth(DriveStatus.UNKNOWN, (), (), (Figure("health", words, why.source),))
    predicted, too_hot = exceptions or (None, False)
    pages = scsi.ScsiPages(
        *temperature, *(reads or (None, None)), *(writes or (None, None)), starts, predicted, too_hot
    )
    return scsi_health(pages, tuple(asked.not_read))


def _statistics(port: DrivePort, asked: _Asked) -> ata.Statistics | None:
    listed = asked.page(
        "device statistics", lambda: port.ata(AtaCommand.STATISTICS_PAGES).data, lambda data: data[9 : 9 + data[8]]
    )
    if listed is None:
        return None
    pages: dict[int, bytes] = {}
    for number, command in _PAGES.items():
        if number in listed:
            found = asked.page(f"device statistics page {number}", lambda c=command: port.ata(c).data, bytes)  # type: ignore[misc]
            if found is not None:
                pages[number] = found
    return asked.page("device statistics", bytes, lambda _data: ata.parse_statistics(pages))


def _nvme(port: DrivePort, asked: _Asked) -> DriveHealth:
    def page(what: str, command: NvmeCommand, parse: Callable[[bytes], T]) -> T | None:
        return asked.page(what, lambda: port.nvme(command), parse)

    controller = page("identity", NvmeCommand.IDENTIFY_CONTROLLER, nvme.parse_controller)
    if controller is None:
        return DriveHealth(DriveStatus.UNKNOWN, (), (), tuple(asked.not_read))
    pages = NvmePages(
        controller,
        page("health log", NvmeCommand.HEALTH, nvme.parse_health),
        page("error log", NvmeCommand.ERRORS, nvme.parse_errors),
        page("self-test log", NvmeCommand.SELF_TEST_LOG, nvme.parse_self_tests) if controller.self_tests else None,
        page("firmware slot log", NvmeCommand.FIRMWARE, nvme.parse_firmware),
        page("temperature threshold", NvmeCommand.TEMPERATURE_THRESHOLD, nvme.parse_temperature_threshold),
        page("thermal management", NvmeCommand.THERMAL_MANAGEMENT, nvme.parse_thermal_management)
        if controller.thermal_management
        else None,
    )
    return nvme_health(pages, tuple(asked.not_read))


_TURNING_RATE, _FLASH_RATES = 150e6, {Family.NVME: 1.8e9, Family.ATA: 450e6}
"""Bytes a second that are usual over a whole drive, for estimates before it was read; the makers' judgement."""


def size_of(system: System, drive: Drive) -> int:
    """Return a drive's size in bytes by the kernel's own count of sectors of 512 bytes, 0 where it gives none."""
    return (optional_number(system, f"/sys/block/{drive.part.place}/size") or 0) * 512


def seconds_to_read(system: System, drive: Drive) -> float:
    """Return about how long reading all of a drive takes."""
    return size_of(system, drive) / usual_rate(drive)


def usual_rate(drive: Drive) -> float:
    """Return the bytes a second that are usual over a whole drive of its kind, an estimate before it was read."""
    if drive.part.fact("kind") == "spinning":
        return _TURNING_RATE
    return _FLASH_RATES.get(drive.family, _TURNING_RATE)
