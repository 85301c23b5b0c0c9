"""Suspects and reasons: what the evidence says, how it adds up, and what it must not say."""

import math
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.diagnosis.decision import load_prices
from thresher.diagnosis.evidence import Evidence, damped_count
from thresher.diagnosis.knowledge import Knowledge, load_knowledge, parse_knowledge
from thresher.diagnosis.suspects import DECIBANS
from thresher.diagnosis.verdict import diagnose
from thresher.model.errors import InputError
from thresher.model.exposure import band_of
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import Book, BookPart, Configuration, Trial
from thresher.model.verdict import Exposure, Suspect, Verdict, percent, suspect_title

KNOWLEDGE = load_knowledge()
HOUR = tuple(Exposure(1, 0, "matrix", 12.0, temperature) for temperature in (70.0, 80.0, 88.0, 93.0, 97.0))

TEN_MINUTES = tuple(replace(exposure, minutes=2.0) for exposure in HOUR)


def finding(kind: FindingKind, core: int | None = None, temperature: float = 93.0, count: int = 1) -> Finding:
    return Finding(
        "P-000",
        kind,
        Severity.FAULT,
        PartKind.PROCESSOR,
        0.0,
        "",
        "",
        core=core,
        load="matrix",
        temperature_c=temperature,
        count=count,
    )


def verdict_on(*findings: Finding, exposures: tuple[Exposure, ...] = HOUR, symptoms: tuple[str, ...] = ()) -> Verdict:
    return diagnose(Evidence(findings, exposures, 8, symptoms), KNOWLEDGE)


def chance(verdict: Verdict, mode: str) -> float:
    return next(suspect.probability for suspect in verdict.suspects if suspect.mode == mode)


def suspect(verdict: Verdict, mode: str) -> Suspect:
    return next(each for each in verdict.suspects if each.mode == mode)


def of_core(verdict: Verdict, core: int) -> float:
    """Probability that something of this core is faulty, whichever of its parts."""
    return sum(each.probability for each in verdict.suspects if each.place == f"core {core}")


CHECK, WRONG = FindingKind.CORRECTED_CHECK, FindingKind.WRONG_RESULT


def test_the_same_core_every_time_is_a_weak_core() -> None:
    verdict = verdict_on(finding(CHECK, 5), finding(CHECK, 5), finding(WRONG, 5))
    assert verdict.suspects[0].mode == "processor.weak-core"
    assert verdict.suspects[0].place == "core 5"
    assert of_core(verdict, 5) > 0.95
    assert verdict.statuses["processor"] is PartStatus.REPLACE
    assert "Replace the processor: core 5 is weak" in verdict.sentence


def test_the_same_findings_on_every_core_are_not_a_weak_core() -> None:
    verdict = verdict_on(*(finding(WRONG, core) for core in (0, 2, 3, 6)))
    assert chance(verdict, "processor.weak-core") < 0.05


def test_one_event_alone_decides_nothing() -> None:
    verdict = verdict_on(finding(CHECK, 5))
    assert verdict.suspects[0].probability < 0.8
    assert "Cannot tell yet" in verdict.sentence
    assert PartStatus.REPLACE not in verdict.statuses.values()


def test_heat_points_at_the_cooling_and_not_at_the_processor() -> None:
    verdict = verdict_on(finding(FindingKind.HEAT_THROTTLE), finding(FindingKind.HEAT_LIMIT), exposures=TEN_MINUTES)
    assert verdict.suspects[0].kind is PartKind.COOLING
    assert verdict.statuses["processor"] is not PartStatus.REPLACE
    assert verdict.statuses["cooling"] is PartStatus.IN_DOUBT
    assert verdict.suspects[0].mode == "cooling.clogged"
    assert verdict.sentence.startswith("Cannot tell yet: most likely cooling")  # it may be too small as well


def test_two_faults_at_once_are_both_found() -> None:
    verdict = verdict_on(
        finding(FindingKind.HEAT_THROTTLE),
        finding(FindingKind.HEAT_LIMIT),
        *(finding(CHECK, 3) for _ in range(4)),
        exposures=TEN_MINUTES,
    )
    assert of_core(verdict, 3) > 0.9
    assert chance(verdict, "cooling.clogged") > 0.5  # the rest: a cooler that is too small


def test_rails_out_point_at_the_supply() -> None:
    verdict = verdict_on(*(finding(FindingKind.RAIL_OUT) for _ in range(3)))
    assert verdict.suspects[0].mode == "power.sag"


def test_clean_time_speaks_for_a_healthy_machine_and_more_of_it_more() -> None:
    none, hour, day = (verdict_on(exposures=tuple(replace(e, minutes=e.minutes * n) for e in HOUR)) for n in (0, 1, 24))
    assert chance(none, "nothing") < chance(hour, "nothing") < chance(day, "nothing")
    assert none.shown_share < hour.shown_share < day.shown_share
    assert day.statuses["processor"] is PartStatus.CLEARED
    assert "would have been detected by now" in hour.sentence


def test_hot_minutes_are_worth_more_than_cool_ones_for_a_core_that_fails_warm() -> None:
    hot = verdict_on(exposures=(Exposure(1, 0, "matrix", 30.0, 97.0),))
    cool = verdict_on(exposures=(Exposure(1, 0, "matrix", 30.0, 45.0),))
    assert chance(hot, "processor.weak-core") < chance(cool, "processor.weak-core")


def test_time_to_sure_shrinks_as_clean_time_grows() -> None:
    some = verdict_on(exposures=(Exposure(1, 0, "matrix", 30.0, 90.0),))
    more = verdict_on(exposures=(Exposure(1, 0, "matrix", 90.0, 90.0),))
    assert some.minutes_to_sure is not None
    assert more.minutes_to_sure is not None
    assert some.minutes_to_sure - more.minutes_to_sure == pytest.approx(60.0, abs=2.0)
    assert verdict_on(exposures=()).minutes_to_sure is None


def test_a_storm_is_worth_little_more_than_its_first_few() -> None:
    assert [damped_count(n) for n in (1, 2, 3)] == [1.0, 2.0, 3.0]
    assert damped_count(10_000) < 17.0
    few = verdict_on(finding(CHECK, 5, count=3))
    storm = verdict_on(finding(CHECK, 5, count=10_000))
    assert chance(storm, "processor.weak-core") >= chance(few, "processor.weak-core") - 0.01


def test_notes_are_not_evidence() -> None:
    note = replace(finding(WRONG, 5), severity=Severity.NOTE)
    assert verdict_on(note).suspects == verdict_on().suspects


def test_what_the_customer_states_moves_the_priors() -> None:
    quiet, warm = verdict_on(), verdict_on(symptoms=("worse when warm",))
    assert chance(warm, "cooling.clogged") > chance(quiet, "cooling.clogged")
    assert "customer" in suspect(warm, "cooling.clogged").reasons[0].text


KINDS = st.sampled_from([CHECK, WRONG, FindingKind.HEAT_THROTTLE, FindingKind.RAIL_OUT, FindingKind.ENDED_SUDDENLY])
FINDINGS = st.lists(
    st.builds(finding, KINDS, st.one_of(st.none(), st.integers(0, 7)), st.floats(30, 100), st.integers(1, 50)),
    max_size=8,
)
TEMPERATURES = st.one_of(st.none(), st.floats(20, 100))
EXPOSURES = st.lists(
    st.builds(Exposure, st.just(1), st.just(0), st.just("matrix"), st.floats(0.1, 200), TEMPERATURES), max_size=5
)


@given(FINDINGS, EXPOSURES)
@settings(max_examples=40, deadline=None)
def test_probabilities_are_probabilities_and_reasons_add_up_to_them(
    findings: list[Finding], exposures: list[Exposure]
) -> None:
    verdict = diagnose(Evidence(tuple(findings), tuple(exposures), 8), KNOWLEDGE)
    for each in verdict.suspects:
        assert 0.0 <= each.probability <= 1.0 + 1e-9
        total = sum(reason.decibans for reason in each.reasons)
        if 1e-12 < each.probability < 1 - 1e-9:
            odds = math.log(each.probability / (1 - each.probability)) * DECIBANS
            assert total == pytest.approx(odds, abs=1e-3 + abs(odds) * 1e-3)
    order = [each.probability for each in verdict.suspects]
    assert order == sorted(order, reverse=True)
    # at most two faults at once: all suspects together cannot be more than two, and nothing faulty excludes them
    assert sum(order) <= 2.0 + 1e-9
    assert 0.0 <= verdict.shown_share <= 1.0


@given(FINDINGS)
@settings(max_examples=25, deadline=None)
def test_the_order_of_the_findings_changes_no_probability(findings: list[Finding]) -> None:
    forth = {s.mode: s.probability for s in verdict_on(*findings).suspects}
    back = {s.mode: s.probability for s in verdict_on(*reversed(findings)).suspects}
    assert forth == pytest.approx(back, abs=1e-9)


def test_of_pairs_that_explain_equally_well_none_is_taken_for_its_place_in_the_list() -> None:
    findings = (
        finding(FindingKind.HEAT_THROTTLE, None, 30.0),
        finding(WRONG, 0, 30.0, 18),
        finding(FindingKind.ENDED_SUDDENLY, 1, 60.0, 31),
    )
    forth = {s.mode: s.probability for s in verdict_on(*findings).suspects}
    back = {s.mode: s.probability for s in verdict_on(*reversed(findings)).suspects}
    assert forth == pytest.approx(back, abs=1e-12)


@given(st.integers(1, 6))
@settings(max_examples=6, deadline=None)
def test_more_of_the_same_on_one_core_never_clears_it(count: int) -> None:
    fewer = verdict_on(*(finding(WRONG, 2) for _ in range(count)))
    more = verdict_on(*(finding(WRONG, 2) for _ in range(count + 1)))
    assert of_core(more, 2) >= of_core(fewer, 2) - 0.02


def test_a_machine_of_unknown_cores_and_missing_temperatures_is_judged_too() -> None:
    evidence = Evidence((replace(finding(CHECK, 0), temperature_c=None),), (Exposure(1, 0, "matrix", 5.0, None),), 0)
    assert diagnose(evidence, KNOWLEDGE).suspects


def test_bands_and_words() -> None:
    assert band_of(None) is None
    assert band_of(93.0) == band_of(90.1) == 92.5
    assert (percent(0.999), percent(0.001), percent(0.423)) == ("> 99 %", "< 1 %", "42 %")
    verdict = verdict_on(finding(CHECK, 5), finding(CHECK, 5))
    assert suspect_title(suspect(verdict, "nothing")) == "Nothing faulty"
    assert suspect_title(suspect(verdict, "processor.weak-core")) == "Processor, core 5"


def test_the_knowledge_that_ships_is_healthy_and_covers_every_kind() -> None:
    assert set(KNOWLEDGE.background) == set(FindingKind)
    assert {mode.part for mode in KNOWLEDGE.modes} >= {
        PartKind.PROCESSOR,
        PartKind.MEMORY,
        PartKind.COOLING,
        PartKind.POWER,
        PartKind.BOARD,
    }
    assert all(mode.source for mode in KNOWLEDGE.modes)


def test_a_broken_knowledge_base_reports_every_fault() -> None:
    text = """
format = "thresher-knowledge/1"
[background]
"wrong result" = 0.0
[[modes]]
name = "a"
part = "processor"
title = "t"
prior = 0
source = "s"
rate = 1.0
next_step = "n"
loads = { matrix = 1.0 }
shows = { "wrong result" = 0.5 }
[[symptoms]]
text = "odd"
group = "g"
factors = { "b" = 2.0 }
"""
    with pytest.raises(InputError) as caught:
        parse_knowledge(text, "k.toml")
    message = str(caught.value)
    for words in (
        "add up to 0.5",
        "must be above 0",
        "no rate above 0 for 'wrong result'",
        "no mode 'b'",
        "thresholds",
    ):
        assert words in message


def test_knowledge_finds_a_mode_by_its_name() -> None:
    assert isinstance(KNOWLEDGE, Knowledge)
    with pytest.raises(StopIteration):
        KNOWLEDGE.mode("no such mode")


def test_of_several_drives_the_one_that_the_kernel_names_is_suspected() -> None:
    tags = ("B-1", "D-1", "D-2", "D-3")
    kinds = (PartKind.BOARD, PartKind.DRIVE, PartKind.DRIVE, PartKind.DRIVE)
    sits = Configuration(tags, (("sda", "D-1"), ("sdb", "D-2"), ("nvme0n1", "D-3")))
    offered = Book(tuple(map(BookPart, tags, kinds)), (Trial(0, "as it came in", sits),))
    unread = Finding(
        "D-310", FindingKind.DRIVE_FAILED, Severity.FAULT, PartKind.DRIVE, 0.0, "", "", "sdb", load="", count=2
    )
    verdict = diagnose(Evidence((unread,), (), 4), KNOWLEDGE, load_prices(), offered)
    first = verdict.suspects[0]
    assert (first.tag, first.place) == ("D-2", "sdb")
    assert "D-2" in verdict.sentence
    assert "sdb" in verdict.sentence
    others = sum(each.probability for each in verdict.suspects if each.tag in ("D-1", "D-3"))
    assert others < 0.05
    assert "D-2" in next(act for act in verdict.acts if act.tags).tags
