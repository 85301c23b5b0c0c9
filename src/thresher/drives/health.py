"""What the pages of a drive mean: a status with its signs, each with the figure and the source it is judged by."""

from dataclasses import dataclass, field
from enum import StrEnum
from functools import cache
from pathlib import Path

from thresher.drives import ata, nvme, scsi
from thresher.model.errors import InputError, InputFault
from thresher.model.tomlfile import convert_list, parse_toml

FORMAT = "thresher-drive-attributes/1"
_TABLE = Path(__file__).with_name("attributes.toml")
_WORN, _NEARLY_WORN = 100, 90
_HOT_C = 60
_MANY_CRC = 10
"""Damaged transfers from which a link is suspect: one or two when a drive is plugged in are usual (judgement)."""
_TEMPERATURE = "temperature"


class DriveStatus(StrEnum):
    """What to do with a drive, from best to worst."""

    UNKNOWN = "unknown"
    FINE = "fine"
    WATCH = "watch"
    COPY = "copy the data off now"
    REPLACE = "replace"


_ORDER = tuple(DriveStatus)

REALLOCATED, PENDING, UNCORRECTABLE = "reallocated sectors", "pending sectors", "uncorrectable errors"
LINK_CRC, MEDIA_ERRORS, USED = "CRC errors on the link", "media errors", "% of its endurance used"


class Meaning(StrEnum):
    """What a sign speaks of."""

    SURFACE = "surface"
    MECHANICS = "mechanics"
    ELECTRONICS = "electronics"
    WEAR = "wear"
    LINK = "link"
    LINK_SPEED = "link speed"
    LINK_OR_SUPPLY = "link or supply"
    TEMPERATURE = "temperature"


@dataclass(frozen=True, slots=True)
class Sign:
    """One thing that speaks against a drive: how bad, of what, in words with the figure, and where it was read."""

    status: DriveStatus
    meaning: Meaning
    words: str
    source: str


@dataclass(frozen=True, slots=True)
class Figure:
    """One figure of a drive: its name, its value in words, and where it was read."""

    name: str
    value: str
    source: str


@dataclass(frozen=True, slots=True)
class DriveHealth:
    """Everything that a drive reported: its status, the signs against it, all figures, and what could not be read.

    `counts` are those figures that are held against the next visit: they only ever grow on a drive that gets worse.
    `bad_places` are bytes of the drive that it lists itself as not to be read.
    """

    status: DriveStatus
    signs: tuple[Sign, ...]
    figures: tuple[Figure, ...]
    not_read: tuple[Figure, ...] = ()
    counts: dict[str, int] = field(default_factory=dict)
    bad_places: tuple[int, ...] = ()


def places_to_try(health: DriveHealth | None, kept: tuple[int, ...]) -> tuple[int, ...]:
    """Return the bytes that a sample has to read whatever else it reads: bad in a scan, or by the drive itself."""
    return tuple(dict.fromkeys((*kept, *(health.bad_places if health is not None else ()))))


class RawForm(StrEnum):
    """Which part of the six raw bytes of an attribute holds its count; the rest holds other numbers of the maker."""

    LOW_8 = "low 8"
    LOW_16 = "low 16"
    LOW_32 = "low 32"
    ALL = "all"
    VENDOR = "vendor"


_RAW_BYTES = {RawForm.LOW_8: 1, RawForm.LOW_16: 2, RawForm.LOW_32: 4, RawForm.ALL: 6}


@dataclass(frozen=True, slots=True, kw_only=True)
class AttributeMeaning:
    """What an ATA attribute counts, and from which raw count on it speaks against the drive."""

    number: int
    name: str
    raw: RawForm
    source: str
    unit: str = ""
    meaning: Meaning | None = None
    watch_from: int | None = None
    copy_from: int | None = None
    replace_from: int | None = None

    def count(self, raw: bytes) -> int | None:
        """Return the count in the raw bytes, None where the maker's form is its own."""
        size = _RAW_BYTES.get(self.raw)
        return None if size is None else int.from_bytes(raw[:size], "little")

    def judge(self, count: int) -> DriveStatus:
        """Return how bad a count is."""
        for status, limit in (
            (DriveStatus.REPLACE, self.replace_from),
            (DriveStatus.COPY, self.copy_from),
            (DriveStatus.WATCH, self.watch_from),
        ):
            if limit is not None and count >= limit:
                return status
        return DriveStatus.FINE


@cache
def attribute_meanings() -> dict[int, AttributeMeaning]:
    """Return what each attribute means, by its number. Raises InputError where the table is wrong."""
    faults: list[InputFault] = []
    data = parse_toml(_TABLE.read_text(encoding="utf-8"), str(_TABLE), FORMAT)
    found = convert_list(data, "attributes", AttributeMeaning, faults)
    if faults:
        raise InputError(str(_TABLE), faults)
    return {each.number: each for each in found}


def worst(signs: tuple[Sign, ...]) -> DriveStatus:
    """Return the worst status of some signs."""
    return max((sign.status for sign in signs), key=_ORDER.index, default=DriveStatus.FINE)


# ---- ATA


@dataclass(frozen=True, slots=True)
class AtaPages:
    """What an ATA drive has answered; None for a page that could not be read."""

    identity: ata.Identity
    smart: ata.SmartData | None = None
    thresholds: dict[int, int] | None = None
    exceeded: bool | None = None
    errors: ata.ErrorLog | None = None
    tests: tuple[ata.SelfTest, ...] | None = None
    statistics: ata.Statistics | None = None
    pending: tuple[int, tuple[int, ...]] | None = None
    link_counters: dict[int, int] | None = None


def ata_health(pages: AtaPages, not_read: tuple[Figure, ...] = ()) -> DriveHealth:
    """Return what an ATA drive's pages mean."""
    signs: list[Sign] = []
    figures: list[Figure] = []
    if pages.exceeded:
        words = "the drive itself reports that it will fail (SMART status)"
        signs.append(Sign(DriveStatus.REPLACE, Meaning.ELECTRONICS, words, "SMART return status"))
    if pages.smart is not None:
        _attributes(pages.smart, pages.thresholds or {}, signs, figures)
    if pages.statistics is not None:
        _statistics(pages.statistics, signs, figures)
    if pages.pending is not None:
        count, listed = pages.pending
        first = ", ".join(str(lba) for lba in listed[:4])
        figures.append(Figure("pending sectors listed", str(count), "pending defects log"))
        if count:
            words = f"{count} sectors cannot be read and wait to be replaced" + (f", first at {first}" if first else "")
            signs.append(Sign(DriveStatus.COPY, Meaning.SURFACE, words, "pending defects log"))
    if pages.errors is not None:
        _logged_errors(pages.errors, signs, figures)
    _ata_tests(pages.tests or (), signs, figures)
    if pages.link_counters:
        crc = pages.link_counters.get(ata.LINK_CRC, 0)
        figures.append(Figure("CRC errors on the link since power-on", str(crc), "link event counters"))
        if crc >= _MANY_CRC:
            words = f"{crc} transfers were damaged on the cable or at the port since power-on"
            signs.append(Sign(DriveStatus.WATCH, Meaning.LINK, words, "link event counters"))
    identity = pages.identity
    if 0 < identity.speed_now < identity.speed_most:
        words = f"the link runs at {identity.speed_now:g} of {identity.speed_most:g} Gb/s that the drive can do"
        signs.append(Sign(DriveStatus.WATCH, Meaning.LINK_SPEED, words, "identify"))
    readable = pages.smart is not None or pages.statistics is not None or pages.exceeded is not None
    found = _without_doubles(signs)
    status = worst(found) if readable or found else DriveStatus.UNKNOWN
    sector = identity.logical
    listed = pages.pending[1] if pages.pending is not None else ()
    places = tuple(lba * sector for lba in listed)
    return DriveHealth(status, found, tuple(figures), not_read, _ata_counts(pages), places)


_KEPT_ATTRIBUTES = {5: REALLOCATED, 187: UNCORRECTABLE, 197: PENDING, 199: LINK_CRC}


def _ata_counts(pages: AtaPages) -> dict[str, int]:
    """Return the counts that are held against the next visit; device statistics before attributes."""
    counts: dict[str, int] = {}
    for each in pages.smart.attributes if pages.smart is not None else ():
        name, known = _KEPT_ATTRIBUTES.get(each.number), attribute_meanings().get(each.number)
        count = known.count(each.raw) if known is not None else None
        if name is not None and count is not None:
            counts[name] = count
    if (found := pages.statistics) is not None:
        pairs = (
            (REALLOCATED, found.reallocated),
            (UNCORRECTABLE, found.uncorrectable),
            (LINK_CRC, found.link_crc),
            (USED, found.used),
        )
        counts |= {name: value for name, value in pairs if value is not None}
    if pages.pending is not None:
        counts[PENDING] = pages.pending[0]
    return counts


def _attributes(smart: ata.SmartData, thresholds: dict[int, int], signs: list[Sign], figures: list[Figure]) -> None:
    for each in smart.attributes:
        known = attribute_meanings().get(each.number)
        source = f"SMART attribute {each.number}"
        name = known.name if known is not None else f"attribute {each.number}: unknown"
        count = known.count(each.raw) if known is not None else None
        unit = f" {known.unit}" if known is not None and known.unit else ""
        value = f"{count}{unit}" if count is not None else f"raw {each.raw[::-1].hex()}"
        figures.append(Figure(name, f"{value} (value {each.value}, worst {each.worst})", source))
        threshold = thresholds.get(each.number, 0)
        if 0 < each.value <= threshold and 0 < threshold < 254:
            status = DriveStatus.REPLACE if each.early_warning else DriveStatus.WATCH
            meaning = known.meaning if known is not None and known.meaning is not None else Meaning.ELECTRONICS
            words = f"{name}: its value {each.value} has reached the maker's threshold {threshold}"
            signs.append(Sign(status, meaning, words, source))
        elif known is not None and count is not None and known.meaning is not None:
            if known.meaning is Meaning.TEMPERATURE:
                _hot(count, source, signs)
            elif (status := known.judge(count)) is not DriveStatus.FINE:
                signs.append(Sign(status, known.meaning, f"{count}{unit} {known.name}", source))


def _hot(celsius: int, source: str, signs: list[Sign]) -> None:
    if _HOT_C <= celsius < 120:
        words = f"it is {celsius} °C warm; drives last shorter from {_HOT_C} °C on"
        signs.append(Sign(DriveStatus.WATCH, Meaning.TEMPERATURE, words, source))


def _figures(source: str, *each: tuple[str, int | None, str]) -> list[Figure]:
    """Return figures of name, value and unit, without those that the drive does not report."""
    return [Figure(name, f"{value}{unit}", source) for name, value, unit in each if value is not None]


def _statistics(found: ata.Statistics, signs: list[Sign], figures: list[Figure]) -> None:
    source = "device statistics"
    figures += _figures(
        source,
        ("power-on hours", found.hours, " h"),
        ("reallocated sectors", found.reallocated, ""),
        ("candidates for reallocation", found.candidates, ""),
        ("uncorrectable errors reported", found.uncorrectable, ""),
        ("temperature", found.temperature_c, " °C"),
        ("highest temperature", found.highest_c, " °C"),
        ("CRC errors on the link", found.link_crc, ""),
        ("endurance used", found.used, " %"),
    )
    if found.candidates:
        words = f"{found.candidates} sectors are candidates for reallocation"
        signs.append(Sign(DriveStatus.COPY, Meaning.SURFACE, words, source))
    if found.reallocated:
        status = DriveStatus.REPLACE if found.reallocated >= 200 else DriveStatus.WATCH
        signs.append(Sign(status, Meaning.SURFACE, f"{found.reallocated} reallocated sectors", source))
    if found.uncorrectable:
        words = f"{found.uncorrectable} uncorrectable errors reported"
        signs.append(Sign(DriveStatus.WATCH, Meaning.SURFACE, words, source))
    if found.link_crc is not None and found.link_crc >= _MANY_CRC:
        signs.append(Sign(DriveStatus.WATCH, Meaning.LINK, f"{found.link_crc} CRC errors on the link", source))
    _wear(found.used, source, signs)


def _wear(used: int | None, source: str, signs: list[Sign]) -> None:
    if used is not None and used >= _NEARLY_WORN:
        status = DriveStatus.REPLACE if used >= _WORN else DriveStatus.WATCH
        signs.append(Sign(status, Meaning.WEAR, f"{used} % of its rated endurance is used", source))


def _logged_errors(log: ata.ErrorLog, signs: list[Sign], figures: list[Figure]) -> None:
    source = "error log"
    figures.append(Figure("errors logged", str(log.count), source))
    unreadable = [each for each in log.errors if each.unreadable]
    if unreadable:
        first = unreadable[0]
        words = f"sector {first.lba} could not be read at hour {first.hours}"
        signs.append(Sign(DriveStatus.WATCH, Meaning.SURFACE, words, source))
    if any(each.link for each in log.errors):
        signs.append(Sign(DriveStatus.WATCH, Meaning.LINK, "errors of the link are in the drive's log", source))


def _ata_tests(tests: tuple[ata.SelfTest, ...], signs: list[Sign], figures: list[Figure]) -> None:
    source = "self-test log"
    for each in tests[:3]:
        place = f", first bad sector {each.lba}" if each.lba is not None else ""
        figures.append(Figure(f"{each.kind} self-test at hour {each.hours}", f"{each.state.value}{place}", source))
    # only the newest of a kind counts: a sector that was replaced since makes a later test pass
    ended_early = (ata.SelfTestState.ABORTED, ata.SelfTestState.RESET)
    newest = next((each for each in tests if each.state not in ended_early), None)
    if newest is not None and newest.state.failed:
        place = f" at sector {newest.lba}" if newest.lba is not None else ""
        read = newest.state is ata.SelfTestState.FAILED_READ
        meaning = Meaning.SURFACE if read else Meaning.MECHANICS if "servo" in newest.state else Meaning.ELECTRONICS
        status = DriveStatus.COPY if read else DriveStatus.REPLACE
        signs.append(Sign(status, meaning, f"its {newest.kind} self-test {newest.state.value}{place}", source))


def _without_doubles(signs: list[Sign]) -> tuple[Sign, ...]:
    """Return the signs, worst first; one that an attribute and a statistic both tell is there once."""
    found: dict[str, Sign] = {}
    for sign in sorted(signs, key=lambda sign: -_ORDER.index(sign.status)):
        found.setdefault(sign.words, sign)
    return tuple(found.values())


# ---- NVMe


@dataclass(frozen=True, slots=True)
class NvmePages:
    """What an NVMe drive has answered; None for a page that could not be read."""

    controller: nvme.Controller
    health: nvme.Health | None = None
    errors: tuple[nvme.ErrorEntry, ...] | None = None
    tests: nvme.SelfTestLog | None = None
    firmware: tuple[int, tuple[str, ...]] | None = None
    warns_at_c: int | None = None
    slows_at_c: tuple[int | None, int | None] | None = None


def nvme_health(pages: NvmePages, not_read: tuple[Figure, ...] = ()) -> DriveHealth:
    """Return what an NVMe drive's pages mean."""
    signs: list[Sign] = []
    figures: list[Figure] = []
    if pages.health is not None:
        _nvme_signs(pages.health, pages.controller, signs)
        figures += _nvme_figures(pages.health)
    if pages.firmware is not None:
        slot, revisions = pages.firmware
        figures.append(Figure("firmware slot", f"{slot} of {pages.controller.firmware_slots}", "firmware slot log"))
        del revisions
    figures += _thermal_figures(pages)
    tests = pages.tests.tests if pages.tests is not None else ()
    for each in tests[:3]:
        name = f"{'extended' if each.extended else 'short'} self-test at hour {each.hours}"
        place = f", first bad block {each.lba}" if each.lba is not None else ""
        figures.append(Figure(name, f"{each.result.value}{place}", "self-test log"))
    ended = (nvme.SelfTestResult.PASSED, nvme.SelfTestResult.FAILED)
    done = next((each for each in tests if each.result in ended), None)
    if done is not None and done.result is nvme.SelfTestResult.FAILED:
        place = f" at block {done.lba}" if done.lba is not None else ""
        words = f"its {'extended' if done.extended else 'short'} self-test failed{place}"
        status = DriveStatus.COPY if done.lba is not None else DriveStatus.REPLACE
        signs.append(Sign(status, Meaning.SURFACE, words, "self-test log"))
    found = _without_doubles(signs)
    status = worst(found) if pages.health is not None or found else DriveStatus.UNKNOWN
    counts = {MEDIA_ERRORS: pages.health.media_errors, USED: pages.health.used} if pages.health is not None else {}
    return DriveHealth(status, found, tuple(figures), not_read, counts)


def _thermal_figures(pages: NvmePages) -> list[Figure]:
    """What the drive was set to do when it gets hot."""
    figures, source = [], "temperature threshold, thermal management"
    if pages.warns_at_c is not None:
        figures.append(Figure("set to warn from", f"{pages.warns_at_c} °C", source))
    if pages.slows_at_c is not None:
        light, heavy = pages.slows_at_c
        steps = [f"{each} °C {how}" for each, how in ((light, "lightly"), (heavy, "heavily")) if each is not None]
        figures.append(Figure("set to slow down from", ", ".join(steps) or "not set", source))
    return figures


def _nvme_signs(health: nvme.Health, controller: nvme.Controller, signs: list[Sign]) -> None:
    source = "health log"
    for raised, status, meaning, words in (
        (
            health.degraded,
            DriveStatus.REPLACE,
            Meaning.ELECTRONICS,
            "the drive reports that it is no longer reliable",
        ),
        (health.read_only, DriveStatus.COPY, Meaning.WEAR, "the drive has gone to read-only"),
        (health.backup_failed, DriveStatus.WATCH, Meaning.ELECTRONICS, "the backup power of its buffer has failed"),
    ):
        if raised:
            signs.append(Sign(status, meaning, words, source))
    if health.spare_low or health.spare < health.spare_threshold:
        words = f"{health.spare} % of its spare blocks are left; its threshold is {health.spare_threshold} %"
        signs.append(Sign(DriveStatus.REPLACE, Meaning.WEAR, words, source))
    _wear(health.used, source, signs)
    if health.media_errors:
        words = f"{health.media_errors} times data could not be read or were wrong"
        signs.append(Sign(DriveStatus.COPY, Meaning.SURFACE, words, source))
    limit = controller.warning_c or _HOT_C + 15
    if health.temperature_c is not None and (health.too_hot or health.temperature_c >= limit):
        words = f"it is {health.temperature_c} °C warm; its warning temperature is {limit} °C"
        signs.append(Sign(DriveStatus.WATCH, Meaning.TEMPERATURE, words, source))
    if health.critical_minutes:
        words = f"it was above its critical temperature for {health.critical_minutes} min"
        signs.append(Sign(DriveStatus.WATCH, Meaning.TEMPERATURE, words, source))


def _nvme_figures(health: nvme.Health) -> list[Figure]:
    source = "health log"
    pairs = (
        ("temperature", f"{health.temperature_c} °C" if health.temperature_c is not None else "unknown"),
        ("spare blocks left", f"{health.spare} % (threshold {health.spare_threshold} %)"),
        ("endurance used", f"{health.used} %"),
        ("read in all", f"{health.bytes_read / 1e12:.2f} TB"),
        ("written in all", f"{health.bytes_written / 1e12:.2f} TB"),
        ("power cycles", str(health.power_cycles)),
        ("power-on hours", f"{health.hours} h"),
        ("unsafe shutdowns", str(health.unsafe_shutdowns)),
        ("media errors", str(health.media_errors)),
        ("entries in the error log", str(health.error_entries)),
        ("above the warning temperature", f"{health.warning_minutes} min"),
        ("slowed itself down for heat", f"{sum(health.throttled)} times"),
    )
    return [Figure(name, value, source) for name, value in pairs]


# ---- SCSI, and flash whose life is in sysfs


def scsi_health(pages: scsi.ScsiPages, not_read: tuple[Figure, ...] = ()) -> DriveHealth:
    """Return what a SCSI drive's log pages mean. With its temperature alone its health is unknown."""
    signs: list[Sign] = []
    figures = _figures(
        "log sense",
        ("temperature", pages.temperature_c, " °C"),
        ("highest temperature it is made for", pages.reference_c, " °C"),
        ("reads corrected", pages.read_corrected, ""),
        ("reads lost", pages.read_uncorrected, ""),
        ("writes corrected", pages.write_corrected, ""),
        ("writes lost", pages.write_uncorrected, ""),
        ("starts and stops", pages.start_stops, ""),
    )
    if pages.failure_predicted:
        words = "the drive itself predicts its failure"
        signs.append(Sign(DriveStatus.REPLACE, Meaning.ELECTRONICS, words, "log page 2Fh"))
    lost = (pages.read_uncorrected or 0) + (pages.write_uncorrected or 0)
    if lost:
        words = f"{lost} reads or writes were lost"
        signs.append(Sign(DriveStatus.COPY, Meaning.SURFACE, words, "log pages 02h and 03h"))
    if pages.temperature_c is not None:
        limit = pages.reference_c or _HOT_C
        if pages.too_hot or pages.temperature_c >= limit:
            words = f"it is {pages.temperature_c} °C warm; it is made for {limit} °C"
            signs.append(Sign(DriveStatus.WATCH, Meaning.TEMPERATURE, words, "log page 0Dh"))
    judged = pages.failure_predicted is not None or pages.read_uncorrected is not None
    found = _without_doubles(signs)
    return DriveHealth(worst(found) if judged or found else DriveStatus.UNKNOWN, found, tuple(figures), not_read)


def flash_health(used: str, reserve: str, source: str) -> DriveHealth:
    """Return what the life of soldered flash means, in the words of the inventory (JESD84-B51)."""
    figures = [Figure(name, value, source) for name, value in (("used", used), ("reserve", reserve)) if value]
    signs: list[Sign] = []
    if used.startswith("more") or reserve.startswith("90"):
        words = f"{used or reserve}: it may stop taking writes at any time"
        signs.append(Sign(DriveStatus.REPLACE, Meaning.WEAR, words, source))
    elif used.startswith(("80", "90")) or reserve.startswith("80"):
        signs.append(Sign(DriveStatus.WATCH, Meaning.WEAR, used or reserve, source))
    return DriveHealth(worst(tuple(signs)), tuple(signs), tuple(figures))
