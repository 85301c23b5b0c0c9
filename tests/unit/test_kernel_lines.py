"""What lines of the kernel log are taken for: a corpus of lines that matter, and one of those that only look so."""

import re
from pathlib import Path
from typing import NamedTuple

import pytest

from thresher.codes.directory import load_codes
from thresher.events.findings import KernelDecoder, load_event_knowledge
from thresher.events.kernel_lines import parse_rules
from thresher.events.kernel_log import KernelRecord
from thresher.model.errors import InputError
from thresher.model.findings import Finding
from thresher.model.vendors import Vendor

CORPUS = Path(__file__).parents[1] / "corpus"
KNOWLEDGE = load_event_knowledge()


class Expected(NamedTuple):
    code: str
    part: str
    severity: str
    place: str
    line: str


def lines_of(name: str) -> list[str]:
    text = (CORPUS / name).read_text(encoding="utf-8")
    return [line for line in text.splitlines() if line and not line.startswith("#")]


MATTERS = [Expected(*(each.strip() for each in line.split(" | ", 4))) for line in lines_of("kernel_lines.txt")]
HARMLESS = lines_of("harmless_lines.txt")


def findings_of(line: str) -> tuple[Finding, ...]:
    decoder = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE)
    return decoder.decode([KernelRecord(1, 12.5, 4, line)], last=True).findings


@pytest.mark.parametrize("expected", MATTERS, ids=lambda each: each.line[:50])
def test_a_line_becomes_a_finding_with_part_place_and_severity(expected: Expected) -> None:
    (finding,) = findings_of(expected.line)
    found = (finding.code, finding.part.value, finding.severity.value, finding.place)
    assert found == (expected.code, expected.part, expected.severity, expected.place)
    assert finding.at == 12.5
    assert finding.raw == expected.line
    assert finding.title
    assert finding.detail


@pytest.mark.parametrize("line", HARMLESS, ids=lambda line: line[:50])
def test_a_line_that_only_looks_alarming_accuses_nobody(line: str) -> None:
    assert findings_of(line) == ()


def test_the_corpora_are_large_enough_and_hold_no_kind_twice() -> None:
    kinds = {re.sub(r"\d+|0x[0-9a-f]+", "#", each.line) for each in MATTERS}
    assert len(kinds) >= 150
    assert len(HARMLESS) >= 40


def test_every_rule_is_met_by_a_line_of_the_corpora() -> None:
    met = set()
    for line in [each.line for each in MATTERS] + HARMLESS + ["NVRM: Xid (PCI:0000:01:00): 7, odd"]:
        meaning = KNOWLEDGE.lines.meaning_of(line)
        if meaning is not None:
            met.add(meaning.rule.form)
    assert [rule.form for rule in KNOWLEDGE.lines.rules if rule.form not in met] == []


def test_every_code_of_a_rule_is_in_the_directory_and_evidence_points_at_parts() -> None:
    codes = load_codes()
    for rule in KNOWLEDGE.lines.rules:
        assert not rule.code or rule.code in codes, rule.form
        if rule.kind is not None:
            assert codes[rule.code].shares, rule.code


def test_a_line_about_a_processor_is_put_down_to_its_core() -> None:
    from thresher.model.parts import Inventory, LogicalCpu

    inventory = Inventory("bench", True, (), tuple(LogicalCpu(cpu, cpu % 8, 0) for cpu in range(16)))
    line = "watchdog: BUG: soft lockup - CPU#13 stuck for 26s! [planner:2211]"
    decoder = KernelDecoder(inventory, Vendor.INTEL, KNOWLEDGE)
    (finding,) = decoder.decode([KernelRecord(1, 2.0, 4, line)]).findings
    assert (finding.core, finding.place, finding.title) == (5, "core 5", "A processor did not get on, core 5")


def test_faulty_rules_are_refused_with_every_fault() -> None:
    rule = '[[lines]]\nhas = "x"\nform = "{form}"\ncode = "{code}"\npart = "drive"\nseverity = "fault"\n'
    text = 'format = "thresher-kernel-lines/1"\n' + rule.format(form="(", code="D-310")
    text += 'title = "t"\nsource = "s"\n' + rule.format(form="a(?P<dev>b)", code="")
    text += 'title = "of {nobody}"\nkind = "drive link error"\nsource = "s"\n'
    with pytest.raises(InputError) as caught:
        parse_rules(text, "rules.toml")
    message = str(caught.value)
    assert "no regular expression" in message
    assert "{nobody} is no group" in message
    assert "evidence needs a fault code" in message


GHES = """\
{1}[Hardware Error]: Hardware error from APEI Generic Hardware Error Source: 1
{1}[Hardware Error]: It has been corrected by h/w and requires no further action
{1}[Hardware Error]: event severity: corrected
{1}[Hardware Error]:  Error 0, type: corrected
{1}[Hardware Error]:  fru_text: DIMM_A2
{1}[Hardware Error]:   section_type: memory error
{1}[Hardware Error]:   error_status: Storage error in DRAM memory (0x0000000000000400)
{1}[Hardware Error]:   physical_address: 0x00000012ab340000
{1}[Hardware Error]:   node:0 card:0 module:1 rank:0 bank:3 device:0 row:8123 column:64
{1}[Hardware Error]:   error_type: 2, single-bit ECC
{1}[Hardware Error]:   DIMM location: P0 CHANNEL A DIMM_A2
"""


def test_a_record_that_firmware_hands_over_is_one_finding() -> None:
    records = [KernelRecord(number, 1.0, 4, line) for number, line in enumerate(GHES.splitlines())]
    (finding,) = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE).decode(records, last=True).findings
    assert (finding.code, finding.part.value, finding.place) == ("M-310", "memory", "P0 CHANNEL A DIMM_A2")
    assert "single-bit ECC" in finding.detail
    assert "0x00000012ab340000" in finding.detail
    assert "module:1" in finding.raw


@pytest.mark.parametrize(
    ("section", "severity", "code"),
    [
        ("PCIe error", "fatal", "S-520"),
        ("general processor error", "recoverable", "P-320"),
        ("IA32/X64 processor error", "corrected", "P-310"),
        ("unknown, 1234", "corrected", "P-319"),
    ],
)
def test_other_sections_of_firmware_are_reported_by_kind_and_severity(section: str, severity: str, code: str) -> None:
    lines = [f"[Hardware Error]: event severity: {severity}", f"[Hardware Error]:   section_type: {section}"]
    records = [KernelRecord(number, 1.0, 4, line) for number, line in enumerate(lines)]
    (finding,) = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE).decode(records, last=True).findings
    assert finding.code == code
