"""Finding out what a text or file is, and decoding it."""

import io
import re
from dataclasses import dataclass, replace

from thresher.codes.directory import CODE, FaultCode, load_codes
from thresher.codes.stop_codes import (
    Stop,
    StopCode,
    bank_in,
    load_stop_codes,
    looks_like_dump,
    plain_number,
    read_dump_header,
    read_stop,
    source_words,
    status_in,
)
from thresher.decoding.groups import EventGroup, Grouper
from thresher.decoding.logs import LogDecoded, NotedLine, read_log
from thresher.events.findings import EventKnowledge, KernelDecoder, code_of_check, load_event_knowledge
from thresher.events.firmware_records import (
    FirmwareRecord,
    finding_of_section,
    hex_dump,
    looks_like_record,
    parse_record,
)
from thresher.events.log_forms import parse_log_text
from thresher.events.machine_checks.decode import decode_check
from thresher.events.machine_checks.intel import counted_words
from thresher.events.machine_checks.lines import MachineCheckAssembler
from thresher.events.machine_checks.registers import DecodedCheck, MachineCheck, PartShare, Strip
from thresher.events.trace_lines import parse_trace_line
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor

_REGISTER = re.compile(r"(?:0x)?([0-9a-fA-F]{1,16})")
_LABELLED = re.compile(
    r"\b(?:IA32_|MSR_)?(?:(MCG_STATUS|MCG_CAP|CPUID|BANK)|(?:MC(\d{1,3}|[AI])_)?(STATUS|ADDR|MISC|SYND|IPID))\s*[:=]?\s*"
    r"(0x)?([0-9a-fA-F]{1,16})\b",
    re.IGNORECASE,
)
"""A register and its value: registers of a bank may be named with it, such as IA32_MC4_STATUS."""
_MOST_CHECKS = 20


@dataclass(frozen=True, slots=True)
class Tables:
    """Everything that decoding needs of the directories."""

    codes: dict[str, FaultCode]
    stops: dict[int, StopCode]
    events: EventKnowledge


def load_tables() -> Tables:
    """Return the tables that come with the program. Raises InputError for tables that contradict themselves."""
    return Tables(load_codes(), load_stop_codes(), load_event_knowledge())


@dataclass(frozen=True, slots=True)
class DecodedThing:
    """One thing taken apart: what it is, what it says in words, the parts it points at, and what to do.

    `lines` are further facts to be read one below the other; `strips` registers to be drawn; `raw` is what came in.
    `findings` is what may be added to a job as evidence; empty for what is none.
    """

    what: str
    title: str
    words: str
    code: str = ""
    lines: tuple[str, ...] = ()
    shares: tuple[PartShare, ...] = ()
    causes: tuple[str, ...] = ()
    steps: tuple[str, ...] = ()
    strips: tuple[Strip, ...] = ()
    raw: str = ""
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True, slots=True)
class Decoded:
    """What came of a text or file: one thing, or a log with its groups; `unknown` when nothing here knows it."""

    things: tuple[DecodedThing, ...]
    log: LogDecoded | None = None
    unknown: str = ""

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All that may be added to a job as evidence."""
        found = [finding for thing in self.things for finding in thing.findings]
        return tuple(found) if found or self.log is None else self.log.findings


def decode_bytes(content: bytes, name: str, vendor: Vendor, tables: Tables) -> Decoded:
    """Decode a file's content. Raises InputError for a dump that cannot be read."""
    if looks_like_record(content):
        return Decoded(tuple(_things_of_record(parse_record(content, name), vendor, tables)))
    if looks_like_dump(content):
        return Decoded((thing_of_stop(read_dump_header(content, name), vendor, tables),))
    if len(content) < 400 and b"\x00" not in content:
        return decode_text(content.decode("utf-8", "replace"), vendor, tables)
    return _as_log(content, vendor, tables)


def decode_text(text: str, vendor: Vendor, tables: Tables) -> Decoded:
    """Decode what was typed or pasted: one of our codes, a register or several, a stop code, or lines of a log."""
    short = text.strip()
    if not short:
        return Decoded((), unknown="nothing was given")
    if CODE.fullmatch(short.upper()) and short.upper() in tables.codes:
        return Decoded((thing_of_code(tables.codes[short.upper()]),))
    if CODE.fullmatch(short.upper()):
        return Decoded((), unknown=f"{short.upper()} is not in the directory of fault codes")
    if "\n" not in short:
        if (register := _REGISTER.fullmatch(short)) and (len(register[1]) > 4 or short.lower().startswith("0x")):
            return _a_number(int(register[1], 16), short, vendor, tables)
        stop = read_stop(short, tables.stops)
        if stop is not None:
            return Decoded((thing_of_stop(stop, vendor, tables),))
    if (check := _labelled(short, vendor)) is not None:
        return Decoded((thing_of_check(check, tables),))
    decoded = _as_log(text.encode("utf-8", "replace"), vendor, tables)
    if decoded.things or (decoded.log is not None and (decoded.log.groups or decoded.log.notes)):
        return decoded
    stop = read_stop(short, tables.stops)
    if stop is not None:
        return Decoded((thing_of_stop(stop, vendor, tables),))
    lines = decoded.log.lines if decoded.log else 0
    plural = "s" if lines > 1 else ""
    message = f"{lines} line{plural} read, none of them means a fault that is known here; the text stays as it is"
    return Decoded((), decoded.log, message)


def _a_number(number: int, text: str, vendor: Vendor, tables: Tables) -> Decoded:
    """Decode a bare number: a machine-check status when its valid bit is set, otherwise a stop code if it is one."""
    if number < 1 << 32 and plain_number(number) in tables.stops:
        return Decoded((thing_of_stop(Stop(number, (), "typed"), vendor, tables),))
    check = MachineCheck(cpu=None, bank=None, status=number, at=None, vendor=vendor, raw=(text,))
    return Decoded((thing_of_check(check, tables),))


def _labelled(text: str, vendor: Vendor) -> MachineCheck | None:
    """Return the check whose registers are named in a text (`STATUS 9c…, ADDR …`), None when no status is named."""
    if "[Hardware Error]" in text or "mce_record" in text:
        return None
    fields: dict[str, int] = {}
    for whole, bank, register, hexadecimal, digits in _LABELLED.findall(text):
        name = (whole or register).upper()
        if name == "BANK" and not hexadecimal:  # banks are counted in decimal numbers, registers never
            if digits.isdigit():
                fields["BANK"] = int(digits)
            continue
        fields.setdefault(name, int(digits, 16))
        if bank.isdigit():
            fields.setdefault("BANK", int(bank))
    if "STATUS" not in fields:
        return None
    layout = Vendor.AMD if "IPID" in fields or "SYND" in fields else vendor
    return MachineCheck(
        cpu=None,
        bank=fields.get("BANK"),
        status=fields["STATUS"],
        at=None,
        address=fields.get("ADDR"),
        misc=fields.get("MISC"),
        syndrome=fields.get("SYND"),
        ipid=fields.get("IPID"),
        mcg_status=fields.get("MCG_STATUS"),
        mcg_cap=fields.get("MCG_CAP"),
        cpuid=fields.get("CPUID"),
        vendor=layout,
        raw=(text,),
    )


def _as_log(content: bytes, vendor: Vendor, tables: Tables) -> Decoded:
    log = read_log(io.BytesIO(content), vendor, tables.codes, tables.events)
    return Decoded(tuple(things_of_log(log, vendor, tables)), log)


def things_of_log(log: LogDecoded, vendor: Vendor, tables: Tables) -> list[DecodedThing]:
    """Return a thing for each group of a log, with registers drawn where it has machine checks, then for notes."""
    decoder = KernelDecoder(None, vendor, tables.events)
    checks: dict[tuple[str, str], MachineCheck] = {}
    for check in log.checks:
        finding = decoder.finding_of(check)
        if finding is not None and len(checks) < _MOST_CHECKS:
            checks.setdefault((finding.code, finding.place), decoder.with_vendor(check))
    things = [thing_of_group(group, tables, checks.get(group.signature)) for group in log.groups]
    return things + [thing_of_note(note, tables) for note in log.notes]


def thing_of_group(group: EventGroup, tables: Tables, check: MachineCheck | None = None) -> DecodedThing:
    """Return a group of findings as a thing: how often, and what its code means."""
    entry = tables.codes.get(group.code)
    decoded = decode_check(check, tables.events.checks) if check is not None else None
    often = f"{group.count} times" if group.count > 1 else "once"
    lines = [f"{often}{_rate_words(group)}"]
    if group.loads:
        lines.append(f"while {', '.join(group.loads)} ran")
    if group.hottest_c is not None and group.coolest_c is not None:
        span = (
            f"{group.coolest_c:.0f} to {group.hottest_c:.0f}"
            if group.hottest_c - group.coolest_c >= 1
            else (f"{group.hottest_c:.0f}")
        )
        lines.append(f"at {span} °C")
    if group.noise:
        lines.append(group.noise)
    shares = decoded.shares if decoded else _shares_of(entry, group.part)
    finding = Finding(
        group.code,
        group.kind,
        group.severity,
        group.part,
        group.last,
        group.title,
        group.detail,
        group.place,
        core=_core_in(group.place),
        count=group.count,
        raw="\n".join(group.samples),
    )
    return DecodedThing(
        what="group",
        title=group.title,
        words=f"{group.detail.removesuffix('.')}. {entry.meaning if entry else ''}".strip(),
        code=group.code,
        lines=tuple(lines),
        shares=shares,
        causes=decoded.causes if decoded else entry.causes if entry else (),
        steps=entry.steps if entry else (),
        strips=decoded.strips if decoded else (),
        raw="\n".join(group.samples),
        findings=(finding,),
    )


def thing_of_job_group(group: EventGroup, vendor: Vendor, tables: Tables) -> DecodedThing:
    """Return a group of a job's findings as a thing, its registers drawn where its raw lines hold a machine check."""
    assembler = MachineCheckAssembler()
    for sample in group.samples:
        checks = assembler.feed(parse_log_text(sample)) + assembler.flush()
        traced = [check for line in sample.splitlines() if (check := parse_trace_line(line.encode()).check)]
        for check in (*checks, *traced):
            return thing_of_group(group, tables, KernelDecoder(None, vendor, tables.events).with_vendor(check))
    return thing_of_group(group, tables)


def _rate_words(group: EventGroup) -> str:
    rate = f", {group.per_hour:.3g} per hour" if group.per_hour is not None and group.last - group.first >= 60 else ""
    return f"{rate}{f', {group.trend}' if group.trend else ''}"


def _core_in(place: str) -> int | None:
    """Return the core that a place names."""
    word, _, number = place.partition(" ")
    return int(number) if word == "core" and number.isdigit() else None


def thing_of_note(note: NotedLine, tables: Tables) -> DecodedThing:
    """Return a line that is no evidence as a thing."""
    entry = tables.codes.get(note.code)
    return DecodedThing(
        what="note",
        title=note.title,
        words=f"No evidence against hardware: {note.says.removesuffix('.')}.",
        code=note.code,
        lines=(f"{note.count} times" if note.count > 1 else "once",),
        steps=entry.steps if entry else (),
        raw=note.sample,
    )


def _shares_of(entry: FaultCode | None, part: PartKind) -> tuple[PartShare, ...]:
    if entry is None or not entry.shares:
        return (PartShare(part, 1.0),) if entry is None else ()
    return tuple(PartShare(kind, share) for kind, share in entry.shares.items())


def thing_of_code(entry: FaultCode) -> DecodedThing:
    """Return one of our codes as a thing."""
    lines: tuple[str, ...] = ()
    if entry.noise is not None:
        plural = "s" if entry.noise.count > 1 else ""
        lines = (
            f"up to {entry.noise.count} finding{plural} in {entry.noise.hours:g} h from one place may be noise"
            f" ({entry.noise.source})",
        )
    return DecodedThing(
        what="fault code",
        title=entry.title,
        words=entry.meaning,
        code=entry.code,
        lines=lines,
        shares=tuple(PartShare(kind, share) for kind, share in entry.shares.items()),
        causes=entry.causes,
        steps=entry.steps,
        raw=entry.code,
    )


def thing_of_check(check: MachineCheck, tables: Tables) -> DecodedThing:
    """Return a machine check as a thing, its registers drawn."""
    decoded = decode_check(check, tables.events.checks)
    layout = f"{check.vendor.value} layout" if check.vendor is not Vendor.UNKNOWN else "layout of both vendors"
    if not decoded.valid:
        return DecodedThing(
            what="register",
            title="No valid error",
            words="Bit 63 is not set: this register holds no error.",
            lines=(layout,),
            strips=decoded.strips,
            raw="\n".join(check.raw),
        )
    code = code_of_check(decoded)[0]
    entry = tables.codes[code]
    finding = KernelDecoder(None, check.vendor, tables.events).finding_of(check)
    return DecodedThing(
        what="machine check",
        title=entry.title,
        words=f"{decoded.summary[:1].upper()}{decoded.summary[1:]}.",
        code=code,
        lines=tuple(_check_lines(decoded, check, layout)),
        shares=decoded.shares,
        causes=decoded.causes,
        steps=entry.steps,
        strips=decoded.strips,
        raw="\n".join(check.raw),
        findings=(finding,) if finding else (),
    )


def _check_lines(decoded: DecodedCheck, check: MachineCheck, layout: str) -> list[str]:
    bank = f"bank {check.bank}" if check.bank is not None else "bank unknown"
    unit = decoded.unit_words or f"unit: {decoded.unit.value}, its name in this family is not documented"
    lines = [f"{layout}, {bank}, {unit}"]
    if decoded.channel is not None:
        select = f", chip select {decoded.chip_select}" if decoded.chip_select is not None else ""
        lines.append(f"memory channel {decoded.channel}{select}")
    if decoded.corrected_count:
        lines.append(f"{counted_words(decoded.corrected_count)} corrected since the counter was cleared")
    if decoded.above_threshold:
        lines.append("above the processor's own threshold for corrected errors")
    if check.address is not None and decoded.address_valid:
        good = f" ({decoded.address_words})" if decoded.address_words else ""
        lines.append(f"address {check.address:#x}{good}")
    if decoded.overflow:
        lines.append("further errors were lost: they came faster than they were read")
    return lines


def thing_of_stop(stop: Stop, vendor: Vendor, tables: Tables) -> DecodedThing:
    """Return a stop of another system as a thing; a machine check in its parameters is decoded too."""
    entry = tables.stops.get(plain_number(stop.number)) or tables.stops.get(stop.number)
    lines = [
        f"parameter {number}: {value:#x}{_named(entry, number)}" for number, value in enumerate(stop.parameters, 1)
    ]
    if stop.when:
        lines.append(f"at {stop.when}")
    if stop.up_s is not None:
        lines.append(f"the system had run for {stop.up_s / 60:.0f} min")
    if words := source_words(stop):
        lines.append(f"reported by {words}")
    name = entry.name if entry else "a code that is not in the directory"
    meaning = entry.meaning if entry else "Nothing here knows this stop code; nothing is guessed from it."
    shares = tuple(PartShare(kind, share) for kind, share in entry.shares.items()) if entry else ()
    strips: tuple[Strip, ...] = ()
    causes: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = ()
    status = status_in(stop)
    place = ""
    if status is not None:
        bank = bank_in(stop)
        check = MachineCheck(None, bank, status, None, vendor=vendor, raw=(f"status {status:#018x}",))
        inner = thing_of_check(check, tables)
        lines += [f"carries a machine-check status {status:#018x}", inner.words, *inner.lines]
        if inner.shares:
            shares, causes, strips, findings = inner.shares, inner.causes, inner.strips, inner.findings
    elif plain_number(stop.number) == 0x101 and len(stop.parameters) == 4 and stop.parameters[3] < 4096:
        place = f"processor {stop.parameters[3]}"
        lines.append(f"{place} of the other system's own numbering did not answer")
    raw = f"{stop.number:#x} ({', '.join(f'{each:#x}' for each in stop.parameters)}), {stop.source}"
    title = f"Stop {stop.number:#x} {name}"
    if findings:  # the machine check that it carries says more than the stop itself
        findings = tuple(replace(each, title=f"{title}: {each.title}", raw=f"{raw}\n{each.raw}") for each in findings)
    elif shares:
        leading = max(shares, key=lambda each: each.share).part
        detail = "; ".join(lines) or meaning
        kind, severity = FindingKind.STOP_SCREEN, Severity.WARNING
        findings = (Finding("E-920", kind, severity, leading, 0.0, title, detail, place, raw=raw),)
    return DecodedThing(
        what="stop code",
        title=f"{stop.number:#x} {name}",
        words=meaning,
        code="E-920",
        lines=tuple(lines),
        shares=shares,
        causes=causes,
        steps=entry.steps if entry else (),
        strips=strips,
        raw=raw,
        findings=findings,
    )


def _named(entry: StopCode | None, number: int) -> str:
    words = entry.parameters[number - 1] if entry and number <= len(entry.parameters) else ""
    return f" ({words})" if words else ""


def _things_of_record(record: FirmwareRecord, vendor: Vendor, tables: Tables) -> list[DecodedThing]:
    """Return a thing for each section of a firmware record, and one for what is wrong with it."""
    decoder = KernelDecoder(None, vendor, tables.events)
    things: list[DecodedThing] = []
    for section in record.sections:
        finding = finding_of_section(record, section, 0.0)
        if section.checks:
            things += [thing_of_check(decoder.with_vendor(check), tables) for check in section.checks]
        elif finding is not None:
            grouper = Grouper(tables.codes)
            grouper.add(finding)
            things += [thing_of_group(group, tables) for group in grouper.groups()]
        else:
            wording = ", ".join(f"{name} {value}" for name, value in section.fields) or "no further details"
            words = f"{section.severity}, {wording}. It points at no part here."
            things.append(DecodedThing("firmware record", f"Section: {section.kind}", words, raw=hex_dump(section.raw)))
    if record.problems:
        entry = tables.codes["X-883"]
        words = f"{entry.meaning} {'; '.join(record.problems)}."
        things.append(DecodedThing("firmware record", entry.title, words, "X-883", raw=hex_dump(record.raw)))
    return things
