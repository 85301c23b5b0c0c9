"""What findings say together, how often they come, and how long is enough."""

import math
from dataclasses import replace

import pytest

from thresher.diagnosis.clean_time import how_long, seen_rate
from thresher.diagnosis.combined_findings import combined_reports, unexplained
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.inference import compute_posterior
from thresher.diagnosis.knowledge import load_knowledge
from thresher.model.findings import Finding, FindingKind, Severity, WrongPlace
from thresher.model.parts import PartKind
from thresher.model.verdict import Exposure, HowLong

KNOWLEDGE = load_knowledge()
WRONG = Finding(
    "P-104",
    FindingKind.WRONG_RESULT,
    Severity.FAULT,
    PartKind.PROCESSOR,
    0.0,
    "",
    "",
    "core 5",
    5,
    run_at=1.0,
    load="matrix",
    temperature_c=84.0,
    repeats=3,
    wrong_again=3,
)


def test_a_core_that_is_wrong_only_when_hot_is_reported_with_the_minutes_below() -> None:
    found = (WRONG, replace(WRONG, temperature_c=88.0, wrong_again=2), replace(WRONG, temperature_c=82.0))
    spent = (
        Exposure(1, 0, "matrix", 14.0, 72.5),
        Exposure(1, 0, "matrix", 3.0, 87.5),
        Exposure(1, 1, "sieve", 9.0, 50),
    )
    (summary,) = combined_reports(found, spent)
    assert summary == (
        "Core 5: 3 wrong results, 8 of 9 repeats on it wrong too, under matrix, only from 82 °C on;"
        " 14 min below that were clean"
    )


def test_without_clean_minutes_below_only_the_temperatures_are_reported() -> None:
    (summary,) = combined_reports((WRONG, replace(WRONG, temperature_c=88.0)), (Exposure(1, 0, "matrix", 3.0, 87.5),))
    assert summary.endswith("at 84 to 88 °C")
    assert "clean" not in summary


def test_the_core_with_most_comes_first_and_memory_last_with_how_to_keep_off() -> None:
    place = WrongPlace(0, 0x12345008, "0" * 16, f"{1 << 19:016x}", True)
    memory = replace(WRONG, kind=FindingKind.MEMORY_WRONG, core=None, places=(place,))
    shown = combined_reports((WRONG, replace(WRONG, core=2, count=7), memory), ())
    assert [line.split(":")[0] for line in shown[:3]] == ["Core 2", "Core 5", "Memory"]
    assert shown[3] == "Until the part comes the kernel can be kept off with memmap=4K$0x12345000"
    assert combined_reports((), ()) == ()


def test_the_rate_is_there_from_the_first_finding_on() -> None:
    spent = (Exposure(1, 0, "matrix", 30.0, 84.0), Exposure(1, 1, "sieve", 600.0, 60.0))
    assert seen_rate(Evidence((), spent, 8)) is None
    one = seen_rate(Evidence((WRONG,), spent, 8))
    ten = seen_rate(Evidence((WRONG,) * 10, spent, 8))
    assert one is not None
    assert ten is not None
    assert (one.findings, one.hours) == (1, 0.5)
    assert one.low < one.per_hour < one.high
    assert ten.low < 20.0 < ten.high
    assert ten.high / ten.low < one.high / one.low
    assert ten.minutes_to_sure == pytest.approx(math.log(20) / ten.low * 60)
    assert ten.minutes_to_sure < one.minutes_to_sure


def test_what_heat_alone_does_is_no_rate_of_faults() -> None:
    hot = replace(WRONG, kind=FindingKind.HEAT_THROTTLE)
    assert seen_rate(Evidence((hot,), (Exposure(1, 0, "matrix", 30.0, 84.0),), 8)) is None


def worth_of(evidence: Evidence) -> tuple[HowLong, tuple[HowLong, ...]]:
    posterior = compute_posterior(evidence, KNOWLEDGE)
    return how_long(posterior, posterior.table, evidence, KNOWLEDGE)


def test_each_kind_of_fault_has_its_own_time_and_99_takes_longer_than_95() -> None:
    spent = (Exposure(1, 0, "branchy", 60.0, 80.0),)
    together, by_mode = worth_of(Evidence((), spent, 8))
    named = {each.mode: each for each in by_mode}
    assert named["processor.weak-core"].shown_share > named["processor.vector-unit"].shown_share + 0.2
    for each in (together, *by_mode):
        if each.minutes_to_95 is not None and each.minutes_to_99 is not None:
            assert each.minutes_to_95 < each.minutes_to_99
    assert worth_of(Evidence((), (), 8))[1] == ()


def test_a_memory_check_states_more_about_memory_in_minutes_than_a_processor_load_in_hours() -> None:
    check = worth_of(Evidence((), (Exposure(1, 0, "memory", 15.0, 60.0),), 8))[1]
    load = worth_of(Evidence((), (Exposure(1, 0, "matrix", 180.0, 60.0),), 8))[1]

    def cells(rows: tuple[HowLong, ...]) -> float:
        return next(each.shown_share for each in rows if each.mode == "memory.cells")

    assert cells(check) > cells(load)


def test_evidence_that_fits_no_suspect_is_reported_to_be_so() -> None:
    drive = Finding("D-310", FindingKind.DRIVE_FAILED, Severity.FAULT, PartKind.DRIVE, 1.0, "t", "d", "sda", count=3)
    check = Finding("P-310", FindingKind.CORRECTED_CHECK, Severity.WARNING, PartKind.PROCESSOR, 1.0, "t", "d")
    (sentence,) = unexplained((drive, check), frozenset({FindingKind.CORRECTED_CHECK}))
    assert sentence.startswith("Not explained by any suspect here: 3 × D-310 drive cannot read or write.")
    assert unexplained((check,), frozenset({FindingKind.CORRECTED_CHECK})) == ()
