"""The book of trials: what swaps say about every part, what to do, and which trial is most informative next."""

import math
from dataclasses import replace

import pytest

from thresher.diagnosis.candidates import candidates
from thresher.diagnosis.decision import (
    Prices,
    chance_of,
    decide,
    default_price_list,
    faults_of,
    load_prices,
    parse_prices,
)
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.inference import Posterior, compute_posterior, counted
from thresher.diagnosis.knowledge import Action, load_knowledge
from thresher.diagnosis.next_trial import cost_of, next_trials
from thresher.diagnosis.suspects import DECIBANS
from thresher.diagnosis.verdict import diagnose
from thresher.model.errors import InputError
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.trials import Book, BookPart, Configuration, Ended, NextTrial, Outcome, Trial
from thresher.model.verdict import Exposure, Suspect, Verdict

KNOWLEDGE = load_knowledge()
PRICES = load_prices()
P = PartKind
OWN = (
    BookPart("CPU", P.PROCESSOR),
    BookPart("DIMM 1", P.MEMORY),
    BookPart("DIMM 2", P.MEMORY),
    BookPart("board", P.BOARD),
    BookPart("supply", P.POWER),
    BookPart("cooler", P.COOLING),
)
SHOP = (
    BookPart("shop DIMM", P.MEMORY, known_good=True),
    BookPart("shop board", P.BOARD, known_good=True),
    BookPart("shop CPU", P.PROCESSOR, known_good=True),
    BookPart("shop supply", P.POWER, known_good=True),
)
AS_IS = Configuration(tuple(part.tag for part in OWN))
REST = ("CPU", "board", "supply", "cooler")


def trial(number: int, title: str, tags: tuple[str, ...], *outcomes: Outcome, runs: tuple[int, ...] = ()) -> Trial:
    return Trial(number, title, Configuration(tags), runs, outcomes)


def failed(minutes: float = 1.0, trust: float = 1.0) -> Outcome:
    return Outcome(Ended.FAILED, "memory", minutes, FindingKind.MEMORY_WRONG, trust)


def clean(minutes: float, load: str = "memory", trust: float = 1.0) -> Outcome:
    return Outcome(Ended.CLEAN, load, minutes, None, trust)


def evidence_of(*trials: Trial, findings: tuple[Finding, ...] = (), exposures: tuple[Exposure, ...] = ()) -> Evidence:
    return Evidence(findings, exposures, 8, (), Book((*OWN, *SHOP), trials))


def weighed_on(*trials: Trial) -> Posterior:
    return compute_posterior(counted(evidence_of(*trials)), KNOWLEDGE)


def of_part(posterior: Posterior, tag: str) -> float:
    return chance_of(posterior, faults_of(posterior, tag))


LIMITS = KNOWLEDGE.thresholds


def of_settings(posterior: Posterior) -> float:
    return chance_of(posterior, {n for n, fault in enumerate(posterior.faults) if fault.mode.of_settings})


ARRIVED = trial(0, "As it came in", AS_IS.tags, failed())
CASE_TEXT = (
    ARRIVED,
    trial(1, "DIMM 1 alone", ("DIMM 1", *REST), failed()),
    trial(2, "DIMM 2 alone", ("DIMM 2", *REST), failed()),
    trial(3, "shop DIMM", ("shop DIMM", *REST), failed()),
    trial(4, "shop DIMM, other slot", ("shop DIMM", *REST), failed()),
    trial(
        5,
        "modules on the shop's board",
        ("DIMM 1", "DIMM 2", "shop board", "shop CPU", "supply", "cooler"),
        clean(60.0),
    ),
    trial(6, "processor on the shop's board", ("CPU", "shop DIMM", "shop board", "supply", "cooler"), failed()),
)


def test_the_story_of_a_bad_processor_that_fails_memory_checks() -> None:
    """Two wrong parts would have been bought on the way by rule of thumb."""
    first = weighed_on(ARRIVED)
    memory = of_part(first, "DIMM 1") + of_part(first, "DIMM 2")
    assert memory > of_part(first, "CPU")  # at first the modules are likelier, as the rule of thumb says
    each_alone = weighed_on(*CASE_TEXT[:3])
    assert of_part(each_alone, "DIMM 1") + of_part(each_alone, "DIMM 2") < memory
    with_ours = weighed_on(*CASE_TEXT[:5])
    assert max(of_part(with_ours, "DIMM 1"), of_part(with_ours, "DIMM 2")) < 0.1
    # what no module changes: processor, board, or the settings that the board keeps
    assert of_part(with_ours, "CPU") + of_part(with_ours, "board") + of_settings(with_ours) > 0.8
    elsewhere = weighed_on(*CASE_TEXT[:6])
    assert max(of_part(elsewhere, "DIMM 1"), of_part(elsewhere, "DIMM 2")) < 0.03
    assert of_part(elsewhere, "board") > 0.15  # board or processor: nobody can report yet
    assert of_part(elsewhere, "CPU") > 0.15
    last = weighed_on(*CASE_TEXT)
    assert of_part(last, "CPU") > 0.94  # two runs in one setup share what is not known of it
    assert of_part(last, "board") < 0.05
    (best, *_) = decide(last, PRICES, LIMITS)
    assert (best.action, best.tags) == (Action.REPLACE.value, ("CPU",))


def test_before_the_last_step_the_best_next_trial_parts_board_and_processor() -> None:
    evidence = evidence_of(*CASE_TEXT[:6])
    posterior = compute_posterior(counted(evidence), KNOWLEDGE)
    configuration = Configuration(("shop DIMM", *REST))
    found = next_trials(posterior, evidence, candidates(evidence.book, configuration))
    titles = [each.candidate.title for each in found]
    assert any("shop board" in title or "shop CPU" in title for title in titles)
    assert all(each.gain > 0 for each in found)
    assert found[0].gain / cost_of(found[0]) >= found[-1].gain / cost_of(found[-1])
    swap = next(each for each in found if "shop" in each.candidate.title)
    assert swap.if_clean != swap.if_found


def test_evidence_stays_with_the_part_that_was_fitted() -> None:
    stayed = weighed_on(
        trial(0, "A", ("DIMM 1", *REST), failed(), failed()), trial(1, "B", ("DIMM 2", *REST), clean(60.0))
    )
    assert of_part(stayed, "DIMM 1") > 0.6
    assert of_part(stayed, "DIMM 2") < 0.05


def test_findings_of_runs_belong_to_the_trial_that_names_the_run() -> None:
    wrong = Finding("M-210", FindingKind.MEMORY_WRONG, Severity.FAULT, P.MEMORY, 1.0, "t", "d", load="memory", run=2)
    trials = (trial(0, "A", ("DIMM 1", *REST), runs=(1,)), trial(1, "B", ("DIMM 2", *REST), runs=(2,)))
    spent = (Exposure(1, 0, "memory", 60.0, None), Exposure(2, 0, "memory", 2.0, None))
    verdict = diagnose(evidence_of(*trials, findings=(wrong, wrong), exposures=spent), KNOWLEDGE)
    assert (
        suspect(verdict, "memory.cells", "DIMM 2").probability
        > 5 * suspect(verdict, "memory.cells", "DIMM 1").probability
    )
    texts = [reason.text for reason in suspect(verdict, "memory.cells", "DIMM 2").reasons]
    assert any("2 × wrong memory word (B) under memory" in text for text in texts)
    assert any("60 min of memory, time alone (A)" in text for text in texts)


def suspect(verdict: Verdict, mode: str, tag: str) -> Suspect:
    return next(each for each in verdict.suspects if (each.mode, each.tag) == (mode, tag))


def test_reasons_add_up_to_the_probability_with_a_book_too() -> None:
    for each in diagnose(evidence_of(*CASE_TEXT), KNOWLEDGE).suspects:
        odds = sum(reason.decibans for reason in each.reasons) / DECIBANS
        assert 1.0 / (1.0 + math.exp(-odds)) == pytest.approx(each.probability, abs=1e-6)


def test_settings_stay_behind_when_they_go_back_to_stock_or_the_board_is_another() -> None:
    as_is = trial(0, "As it came in", AS_IS.tags, failed(), failed())
    stock = replace(
        trial(1, "Stock", AS_IS.tags, clean(120.0)), configuration=replace(AS_IS, stock=(P.MEMORY, P.PROCESSOR))
    )
    before, after = weighed_on(as_is), weighed_on(as_is, stock)

    assert of_settings(after) > 2 * of_settings(before)
    (best, *_) = decide(after, PRICES, LIMITS)
    assert best.action == Action.STOCK.value
    other_board = trial(1, "Other board", ("DIMM 1", "DIMM 2", "CPU", "shop board", "supply"), failed(), failed())
    assert of_settings(weighed_on(as_is, other_board)) < of_settings(before)


def test_cleaning_speaks_against_dust_when_nothing_changes() -> None:
    hot = Outcome(Ended.FAILED, "matrix", 5.0, FindingKind.HEAT_THROTTLE, 1.0)
    as_is = trial(0, "As it came in", AS_IS.tags, hot, hot)
    cleaned = replace(
        trial(1, "Cleaned", AS_IS.tags, hot, hot, hot), configuration=replace(AS_IS, treated=("cooling",))
    )
    dust = [
        chance_of(w, {n for n, fault in enumerate(w.faults) if fault.mode.name == "cooling.clogged"})
        for w in (weighed_on(as_is), weighed_on(as_is, cleaned))
    ]
    assert dust[1] < dust[0] / 2


def test_a_word_that_is_trusted_less_counts_less() -> None:
    sure = weighed_on(trial(0, "A", ("DIMM 1", *REST), failed(trust=1.0)))
    hearsay = weighed_on(trial(0, "A", ("DIMM 1", *REST), failed(trust=0.3)))
    nothing = weighed_on(trial(0, "A", ("DIMM 1", *REST)))
    assert of_part(nothing, "DIMM 1") < of_part(hearsay, "DIMM 1") < of_part(sure, "DIMM 1")


def test_a_part_of_the_shop_is_unlikely_to_be_faulty_and_not_impossible() -> None:
    posterior = weighed_on(
        trial(0, "ours", ("shop DIMM", *REST), failed(), failed()), trial(1, "theirs", ("DIMM 1", *REST), clean(300.0))
    )
    assert of_part(posterior, "shop DIMM") > 0.2


def test_a_machine_that_does_not_start_points_at_board_supply_and_memory() -> None:
    posterior = weighed_on(trial(0, "As it came in", AS_IS.tags, Outcome(Ended.NO_START, "", 0.0)))
    healthy = float(posterior.posterior[0])
    assert healthy < float(weighed_on(trial(0, "As it came in", AS_IS.tags)).posterior[0])


# ---- the decision


def test_with_no_evidence_nothing_is_bought() -> None:
    (best, *_) = decide(weighed_on(trial(0, "As it came in", AS_IS.tags)), PRICES, LIMITS)
    assert best.price == 0.0


def test_two_faults_are_mended_by_two_acts() -> None:
    hot = Outcome(Ended.FAILED, "matrix", 5.0, FindingKind.HEAT_THROTTLE, 1.0)
    limit = Outcome(Ended.FAILED, "matrix", 5.0, FindingKind.HEAT_LIMIT, 1.0)
    posterior = weighed_on(
        trial(0, "A", ("DIMM 1", *REST), failed(), failed(), failed(), hot, limit, hot),
        trial(1, "B", ("DIMM 2", *REST), clean(240.0), hot, limit),
    )
    prices = replace(PRICES, comeback=2000.0)
    acts = decide(posterior, prices, LIMITS)
    both = next(act for act in acts if {step.tag for step in act.steps} == {"DIMM 1", "cooling"})
    assert both.fix_probability > 0.8
    alone = [act for act in acts if len(act.steps) == 1]
    assert all(both.expected < act.expected for act in alone)


def test_expected_cost_is_price_time_and_comebacks() -> None:
    posterior = weighed_on(*CASE_TEXT)
    for act in decide(posterior, PRICES, LIMITS):
        assert act.expected == pytest.approx(act.price + PRICES.time_cost(act.minutes) + act.risk)
        assert act.risk >= (1.0 - act.fix_probability) * PRICES.comeback - 1e-6
        assert 0.0 <= act.fix_probability <= 1.0 + 1e-9


def test_a_dear_comeback_makes_buying_earlier_worth_it() -> None:
    posterior = weighed_on(trial(0, "A", ("DIMM 1", *REST), failed(), failed()))
    cheap, dear = replace(PRICES, comeback=10.0), replace(PRICES, comeback=5000.0)
    assert decide(posterior, cheap, LIMITS)[0].price < decide(posterior, dear, LIMITS)[0].price


def test_a_faulty_price_list_is_refused_with_every_fault() -> None:
    text = 'format = "thresher-prices/1"\nan_hour = -1.0\ncomeback = "much"\n[parts]\nmemory = -5.0\n[minutes]\n'
    with pytest.raises(InputError) as caught:
        parse_prices(text, "prices.toml")
    message = str(caught.value)
    assert "per_hour" in message
    assert "comeback" in message
    assert "parts memory" in message
    assert PRICES.default
    assert isinstance(PRICES, Prices)


# ---- the next trial


def first_step(*trials: Trial) -> tuple[NextTrial, ...]:
    evidence = evidence_of(*trials)
    return next_trials(compute_posterior(counted(evidence), KNOWLEDGE), evidence, candidates(evidence.book, AS_IS))


def test_with_two_modules_that_fail_together_one_alone_is_among_the_best() -> None:
    found = first_step(trial(0, "As it came in", AS_IS.tags, failed(), failed()))
    assert any("alone" in each.candidate.title or "shop DIMM" in each.candidate.title for each in found)
    assert found[0].stints[0][0] == "memory"
    assert found[0].sentence.startswith(found[0].candidate.title)


def test_fits_that_can_be_made_keep_the_rest_of_the_machine() -> None:
    book = Book((*OWN, *SHOP))
    for each in candidates(book, AS_IS):
        kinds = {part.kind for tag in each.configuration.tags if (part := book.part(tag)) is not None}
        assert kinds == {part.kind for part in OWN}
        assert each.minutes >= 0.0
    titles = [each.title for each in candidates(book, AS_IS)]
    assert {"DIMM 1 alone", "shop CPU in place of CPU", "Settings back to stock", "Cleaned"} <= set(titles)
    assert len(titles) == len(set(titles))


def test_what_would_tell_nothing_is_not_proposed() -> None:
    done = weighed_on(*CASE_TEXT)
    evidence = evidence_of(*CASE_TEXT)
    for each in next_trials(done, evidence, candidates(evidence.book, AS_IS), most=20):
        assert each.gain > 0.0
        assert 0.0 <= each.finds <= 1.0


# ---- the likelihood itself


def test_a_swap_puts_the_other_part_into_the_same_place() -> None:
    configuration = Configuration(
        ("CPU", "DIMM 1", "DIMM 2"), (("A2", "DIMM 1"), ("B2", "DIMM 2")), (P.MEMORY,), ("cooling",)
    )
    swapped = configuration.swapped("DIMM 1", "shop DIMM")
    assert swapped.tags == ("CPU", "shop DIMM", "DIMM 2")
    assert swapped.place_of("shop DIMM") == "A2"
    assert (swapped.stock, swapped.treated) == (configuration.stock, configuration.treated)
    assert swapped.swapped("shop DIMM", "DIMM 1") == configuration
    assert configuration.is_treated("C-1", P.COOLING)
    assert not configuration.is_treated("CPU", P.PROCESSOR)


def test_a_bench_that_is_about_to_be_left_is_proposed_a_night() -> None:
    evidence = evidence_of(ARRIVED)
    posterior = compute_posterior(counted(evidence), KNOWLEDGE)
    options = candidates(evidence.book, AS_IS)
    by_day, by_night = (next_trials(posterior, evidence, options, overnight=night) for night in (False, True))
    assert all(each.run_minutes <= 360 for each in by_day)
    assert {each.run_minutes for each in by_night} == {480.0}
    assert by_night[0].sentence.startswith("Overnight: ")
    assert cost_of(by_night[0]) < 480.0  # nobody waits for it


@pytest.mark.parametrize(
    ("closes", "minute", "left"),
    [
        ("17:30", 12 * 60.0, False),
        ("17:30", 16 * 60.0 + 45, True),
        ("17:30", 23 * 60.0, True),
        ("17:30", 3 * 60.0, True),
        ("17:30", 8 * 60.0, False),
    ],
)
def test_when_a_bench_is_left_is_in_the_price_list(closes: str, minute: float, left: bool) -> None:
    prices = parse_prices(f'closes = "{closes}"\n{default_price_list()}', "p")
    assert prices.closes == 17.5 * 60
    assert prices.leaves_soon(minute) is left
    assert not PRICES.leaves_soon(minute)
    with pytest.raises(InputError, match="expected a time"):
        parse_prices(f'closes = "half past"\n{default_price_list()}', "p")
