"""What the diagnosis says at the bench: stories of machines, each from what a technician would do."""

import random
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.diagnosis.decision import load_prices
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.inference import compute_posterior
from thresher.diagnosis.knowledge import Action, load_knowledge
from thresher.diagnosis.proof import prove
from thresher.diagnosis.verdict import diagnose
from thresher.model.findings import Finding, FindingKind, Severity, WrongPlace
from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import ANOTHER_SLOT, Book, BookPart, Configuration, Ended, Outcome, Trial
from thresher.model.verdict import EVERYDAY_USE, Course, Exposure, Verdict

P, K = PartKind, FindingKind
KNOWLEDGE, PRICES = load_knowledge(), load_prices()
PARTS = (
    BookPart("B", P.BOARD),
    BookPart("P", P.PROCESSOR),
    BookPart("M1", P.MEMORY),
    BookPart("M2", P.MEMORY),
    BookPart("S", P.POWER),
    BookPart("C", P.COOLING),
    BookPart("D", P.DRIVE),
    BookPart("G", P.GRAPHICS),
    BookPart("our M", P.MEMORY, known_good=True),
    BookPart("our S", P.POWER, known_good=True),
)
REST = ("B", "P", "S", "C", "D", "G")
AS_IT_CAME = Configuration((*REST, "M1", "M2"), (("A2", "M1"), ("B2", "M2")))


def found(kind: FindingKind, run: int = 1, load: str = "matrix", **more: object) -> Finding:
    one = Finding("X-1", kind, Severity.FAULT, P.BOARD, 1.0, "t", "d", load=load, temperature_c=80.0, run=run)
    return replace(one, **more)  # type: ignore[arg-type]  # fields by name


def word(address: int, bit: int, slot: str = "", run: int = 1) -> Finding:
    place = WrongPlace(address, address, "0" * 16, f"{1 << bit:016x}", False)
    return found(K.MEMORY_WRONG, run, "memory", places=(place,), place=slot, temperature_c=50.0)


def ran(run: int, load: str, minutes: float, temperature: float = 80.0, broken_off: bool = False) -> Exposure:
    return Exposure(run, 0, load, minutes, temperature, broken_off)


def at_its_owner(hours: float) -> Exposure:
    return Exposure(1, -1, EVERYDAY_USE, hours * 60.0, None)


def say(
    findings: tuple[Finding, ...] = (),
    spent: tuple[Exposure, ...] = (),
    trials: tuple[Trial, ...] = (Trial(0, "As it came in", AS_IT_CAME, (1,)),),
    symptoms: tuple[str, ...] = (),
) -> Verdict:
    return diagnose(Evidence(findings, spent, 4, symptoms, Book(PARTS, trials)), KNOWLEDGE, PRICES)


def chance(verdict: Verdict, mode: str, tag: str = "") -> float:
    return sum(each.probability for each in verdict.suspects if each.mode == mode and (not tag or each.tag == tag))


def healthy(verdict: Verdict) -> float:
    return next(each.probability for each in verdict.suspects if each.kind is None)


# ---- cleared only by what tested it


def test_the_shop_s_module_clears_no_module_that_was_out() -> None:
    ours = Configuration((*REST, "our M"), (("A2", "our M"),))
    trials = (Trial(0, "As it came in", AS_IT_CAME, (1,)), Trial(1, "our M alone", ours, (2,)))
    elsewhere = say(spent=(ran(2, "memory", 240.0, 50.0),), trials=trials)
    assert elsewhere.statuses["M1"] is PartStatus.UNTESTED
    assert elsewhere.statuses["memory"] is PartStatus.UNTESTED
    in_it = say(spent=(ran(1, "memory", 600.0, 50.0),))
    assert in_it.statuses["M1"] is PartStatus.CLEARED


def test_hours_of_log_clear_neither_card_nor_drive() -> None:
    said = say(spent=(at_its_owner(5.0),))
    assert said.statuses["graphics"] is PartStatus.UNTESTED
    assert said.statuses["drive"] is PartStatus.UNTESTED
    assert PartStatus.CLEARED not in said.statuses.values()


def test_ten_hours_of_everyday_use_take_nothing_from_a_core_that_has_failed_under_load() -> None:
    wrong = (found(K.WRONG_RESULT, core=2), found(K.WRONG_RESULT, core=2))
    before = say(wrong, (ran(1, "matrix", 10.0),))
    after = say(wrong, (ran(1, "matrix", 10.0), at_its_owner(10.0)))
    assert before.suspects[0].tag == "P"
    of_core = [sum(s.probability for s in each.suspects if s.core == 2) for each in (before, after)]
    assert of_core[1] > 0.9 * of_core[0]


def test_forty_hours_of_log_and_five_minutes_prove_little() -> None:
    said = say(spent=(at_its_owner(40.0), ran(1, "matrix", 5.0)))
    assert 0.5 < healthy(said) < 0.78
    assert said.advice is not None
    assert said.advice.course is Course.PROVE


def test_minutes_before_a_reset_are_no_clean_time() -> None:
    clean = say(spent=(ran(1, "matrix", 60.0),))
    reset = say((found(K.ENDED_SUDDENLY),), (ran(1, "matrix", 60.0, broken_off=True),))
    assert reset.shown_share < 0.5 < clean.shown_share


# ---- places


def test_a_slot_that_spoils_every_module_is_found_and_left_empty() -> None:
    alone_there = Configuration((*REST, "M1"), (("B2", "M1"),), (), ("M1",))
    other_here = Configuration((*REST, "M2"), (("A2", "M2"),), (), ("M1", "M2"))
    trials = (
        Trial(0, "As it came in", AS_IT_CAME, (1,)),
        Trial(1, "M1 alone, in slot B2", alone_there, (2,)),
        Trial(2, "M2 alone, in slot A2", other_here, (3,)),
    )
    first = tuple(word(0x1000 * n, 7, "A2") for n in range(1, 4))
    again = tuple(word(0x70000 + 0x3000 * n, 7, "A2", 3) for n in range(1, 4))
    spent = (ran(1, "memory", 15.0, 50.0), ran(2, "memory", 45.0, 50.0), ran(3, "memory", 15.0, 50.0))
    said = say((*first, *again), spent, trials)
    top = said.suspects[0]
    assert (top.mode, top.place) == ("board.slot", "A2")
    assert top.probability > 0.85
    assert said.advice is not None
    assert said.advice.act is not None
    (step,) = said.advice.act.steps
    assert (step.action, step.tag) == (Action.MOVE.value, "A2")
    assert said.sentence.startswith("Use a memory slot other than A2: faulty memory slot")


def test_before_that_a_module_in_another_slot_is_among_what_can_be_tried() -> None:
    said = say(tuple(word(0x1000 * n, 7, "A2") for n in range(1, 4)), (ran(1, "memory", 15.0, 50.0),))
    assert chance(said, "board.slot") > 0.1
    assert any("slot" in each.candidate.title for each in said.next_trials)


def test_a_fault_that_goes_with_the_module_is_the_module_s() -> None:
    moved = Configuration((*REST, "M1"), ((ANOTHER_SLOT, "M1"),), (), ("M1",))
    trials = (Trial(0, "As it came in", AS_IT_CAME, (1,)), Trial(1, "M1 in another slot", moved, (2,)))
    cell = WrongPlace(0x5000, 0x5000, "0" * 16, f"{1 << 9:016x}", True)
    same = [found(K.MEMORY_WRONG, run, "memory", places=(cell,), temperature_c=50.0) for run in (1, 1, 2, 2)]
    said = say(tuple(same), (ran(1, "memory", 15.0, 50.0), ran(2, "memory", 15.0, 50.0)), trials)
    assert chance(said, "memory.cells", "M1") > 0.9
    assert chance(said, "board.slot") < 0.03


# ---- ends, and no start


def test_four_short_runs_that_end_in_a_reset_accuse_the_supply_more_than_one() -> None:
    trials = (Trial(0, "As it came in", AS_IT_CAME, (1, 2, 3, 4)),)
    one, four = (
        say(
            tuple(found(K.ENDED_SUDDENLY, run) for run in runs),
            tuple(ran(run, "matrix", 10.0, broken_off=True) for run in runs),
            trials,
        )
        for runs in ((1,), (1, 2, 3, 4))
    )
    assert chance(four, "power.cuts") > chance(one, "power.cuts") > chance(say(), "power.cuts")
    assert four.suspects[0].kind in (P.POWER, P.BOARD)
    assert four.next_trials


def test_that_it_does_not_start_is_one_fact_however_often_it_is_tried() -> None:
    dead = Outcome(Ended.NO_START, "", 0.0)
    once, thrice = (say(trials=(Trial(0, "As it came in", AS_IT_CAME, (), (dead,) * n),)) for n in (1, 3))
    assert [each.probability for each in once.suspects] == [each.probability for each in thrice.suspects]
    assert healthy(once) < 0.15
    assert once.suspects[0].kind is P.POWER
    (trial, *_) = once.next_trials
    assert trial.stints == ()
    assert "see whether it starts" in trial.sentence
    assert once.advice is not None
    assert once.advice.course is Course.TRY


def test_that_it_starts_with_the_shop_s_supply_accuses_its_own() -> None:
    swapped = AS_IT_CAME.swapped("S", "our S")
    trials = (
        Trial(0, "As it came in", AS_IT_CAME, (), (Outcome(Ended.NO_START, "", 0.0, trust=1.0),)),
        Trial(1, "our S in place of S", swapped, (), (Outcome(Ended.CLEAN, EVERYDAY_USE, 5.0, trust=1.0),)),
    )
    said = say(trials=trials)
    assert sum(each.probability for each in said.suspects if each.tag == "S") > 0.75


# ---- one event, one finding


def test_sixty_single_bits_at_random_are_no_bad_contact_and_no_path() -> None:
    rng = random.Random(11)
    words = tuple(word(0x1000 * rng.randrange(1, 1 << 20), rng.randrange(64)) for _ in range(60))
    said = say(words, (ran(1, "memory", 30.0, 50.0),))
    assert chance(said, "memory.contact") + chance(said, "board.memory-path") < 0.1
    assert said.suspects[0].mode in ("memory.settings", "processor.memory-controller")
    shuffled = list(words)
    rng.shuffle(shuffled)
    again = say(tuple(shuffled), (ran(1, "memory", 30.0, 50.0),))
    for one, other in zip(said.suspects, again.suspects, strict=True):
        assert one.probability == pytest.approx(other.probability, abs=1e-9)


def test_heat_that_stays_after_cleaning_is_a_cooler_that_is_too_small() -> None:
    cleaned = replace(AS_IT_CAME, treated=("cooling",))
    trials = (Trial(0, "As it came in", AS_IT_CAME, (1,)), Trial(1, "Cleaned", cleaned, (2,)))
    hot = tuple(found(K.HEAT_THROTTLE, run, temperature_c=95.0) for run in (1, 1, 2, 2))
    before = say(hot[:2], (ran(1, "matrix", 15.0, 95.0),))
    after = say(hot, (ran(1, "matrix", 15.0, 95.0), ran(2, "matrix", 15.0, 95.0)), trials)
    assert before.suspects[0].mode == "cooling.clogged"
    assert chance(after, "cooling.clogged") < 0.4 * chance(before, "cooling.clogged")
    assert healthy(after) > 3 * healthy(before)


def test_what_nothing_explains_lets_something_else_grow() -> None:
    odd = (found(K.USB_ERROR), found(K.NETWORK_HANG), found(K.BOARD_ERROR), found(K.ROUND_OFF))
    assert chance(say(odd, (ran(1, "matrix", 20.0),)), "other.unknown") > 5 * chance(say(), "other.unknown")


@pytest.mark.parametrize(
    ("first", "second"),
    [(K.HEAT_LIMIT, K.HEAT_THROTTLE), (K.CORE_HANG, K.LOCKED_UP)],
)
def test_one_event_that_two_kinds_report_counts_once(first: FindingKind, second: FindingKind) -> None:
    spent = (ran(1, "matrix", 20.0, 95.0),)
    once = say((found(first, core=2, at=100.0),), spent)
    both = (found(first, core=2, at=100.0), found(second, core=2, at=130.0))
    for findings in (both, both[::-1]):
        twice = say(findings, spent)
        assert [each.probability for each in twice.suspects] == [each.probability for each in once.suspects]
    later = say((both[0], replace(both[1], at=400.0)), spent)
    other_core = say((both[0], replace(both[1], core=3)), spent)
    for distinct in (later, other_core):
        assert healthy(distinct) != pytest.approx(healthy(once), rel=0.01)


def test_a_machine_that_starts_again_is_tested_again() -> None:
    dead = Trial(0, "As it came in", AS_IT_CAME, (1,), (Outcome(Ended.NO_START, "", 0.0),))
    still = say(spent=(ran(1, "matrix", 5.0),), trials=(dead,))
    assert still.next_trials[0].stints == ()
    again = say(
        spent=(ran(1, "matrix", 5.0), ran(2, "matrix", 5.0)), trials=(dead, Trial(1, "again", AS_IT_CAME, (2,)))
    )
    assert all(each.stints for each in again.next_trials)
    assert not any("does not start" in reason.text for each in again.suspects for reason in each.reasons)


# ---- proof


def test_the_run_that_verifies_says_what_it_takes_to_put_the_machine_together_again() -> None:
    ours = AS_IT_CAME.swapped("S", "our S")
    trials = (Trial(0, "As it came in", AS_IT_CAME, (1,)), Trial(1, "our S in place of S", ours, (2,)))
    evidence = Evidence((), (ran(1, "memory", 10.0, 50.0), ran(2, "memory", 10.0, 50.0)), 4, (), Book(PARTS, trials))
    proof = prove(compute_posterior(evidence, KNOWLEDGE), evidence)
    assert proof.trial is not None
    assert proof.trial.candidate.configuration == AS_IT_CAME
    assert proof.trial.candidate.minutes == 15.0  # a supply is swapped back in a quarter of an hour
    assert proof.ran == 10.0


def repaired(*spent: Exposure) -> Verdict:
    wrong = tuple(found(K.MEMORY_WRONG, 1, "memory", place="A2", temperature_c=50.0) for _ in range(3))
    new = replace(AS_IT_CAME.swapped("M1", "our M"), places=(("A2", "our M"), ("B2", "M2")))
    kept = Trial(1, "M1 replaced", new, (2,), kept=True)
    trials = (Trial(0, "As it came in", AS_IT_CAME, (1,)), kept)
    return say(wrong, (ran(1, "memory", 10.0, 50.0), *spent), trials)


def test_nothing_is_handed_back_before_it_is_proved() -> None:
    at_once = repaired()
    assert at_once.advice is not None
    assert at_once.advice.course is Course.PROVE
    assert at_once.advice.trial is not None
    assert at_once.advice.trial == at_once.next_trials[0]
    assert "memory" in {load for load, _ in at_once.advice.trial.stints}
    assert "no run has confirmed it yet" in at_once.sentence
    assert at_once.advice.sentence.startswith("Verify before returning it: ")
    proved = repaired(*(ran(2, load, minutes) for load, minutes in at_once.advice.trial.stints))
    assert proved.advice is not None
    assert proved.advice.course is Course.RETURN
    assert "return to customer" in proved.advice.sentence


def test_what_was_replaced_is_no_part_to_be_replaced_and_listed_last() -> None:
    proved = repaired(ran(2, "memory", 60.0, 50.0), ran(2, "matrix", 60.0))
    gone = [each for each in proved.suspects if each.gone]
    assert {each.tag for each in gone} == {"M1"}
    assert [each.gone for each in proved.suspects] == sorted(each.gone for each in proved.suspects)
    assert "M1" not in proved.statuses
    assert PartStatus.REPLACE not in proved.statuses.values()
    assert all("M1" not in act.tags for act in proved.acts)


# ---- no contradictions


@st.composite
def jobs(draw: st.DrawFn) -> tuple[tuple[Finding, ...], tuple[Exposure, ...], tuple[Trial, ...]]:
    """Draw findings, minutes and trials that a bench could have."""
    fitted = [AS_IT_CAME]
    for _ in range(draw(st.integers(0, 2))):
        last = fitted[-1]
        swaps = (
            last.swapped("M1", "our M"),
            last.swapped("S", "our S"),
            replace(last, stock=(P.PROCESSOR, P.MEMORY, P.GRAPHICS)),
            replace(last, treated=(*last.treated, "cooling")),
        )
        fitted.append(draw(st.sampled_from(swaps)))
    kept = draw(st.integers(0, len(fitted)))
    trials = tuple(Trial(n, f"trial {n}", each, (n + 1,), kept=n == kept) for n, each in enumerate(fitted))
    runs = st.integers(1, len(trials))
    kinds = st.sampled_from(
        (K.WRONG_RESULT, K.CORRECTED_CHECK, K.MEMORY_WRONG, K.HEAT_THROTTLE, K.ENDED_SUDDENLY, K.RAIL_OUT, K.CARD_PIXEL)
    )
    loads = st.sampled_from(("matrix", "memory", "branchy", "raster"))
    findings = draw(st.lists(st.builds(found, kinds, runs, loads), max_size=6))
    spent = draw(st.lists(st.builds(ran, runs, loads, st.floats(1.0, 120.0), st.floats(40.0, 95.0)), max_size=6))
    return tuple(findings), tuple(spent), trials


@settings(max_examples=25, deadline=None)
@given(jobs())
def test_headline_advice_statuses_and_acts_are_one_decision(
    job: tuple[tuple[Finding, ...], tuple[Exposure, ...], tuple[Trial, ...]],
) -> None:
    said = say(*job)
    advice = said.advice
    assert advice is not None
    steps = advice.act.steps if advice.act is not None else ()
    bought = {step.tag for step in steps if step.action == Action.REPLACE}
    to_replace = {tag for tag, status in said.statuses.items() if status is PartStatus.REPLACE}
    tags = {part.tag for part in PARTS}
    assert to_replace & tags == bought & tags  # nothing is to be replaced that is not advised, and the other way round
    acting = advice.course is Course.ACT
    assert acting == bool(steps)
    assert acting or not any(word in said.sentence for word in ("Replace", "Reseat", "Clean the", "Go back"))
    base = Book(PARTS, job[2]).base
    assert base is not None
    for act in said.acts:
        assert len(set(act.tags)) == len(act.tags), "no part is paid twice"
        assert all(tag in base.tags for tag in act.tags if tag in tags), "nothing is done to what is out"
        assert not any(tag.startswith("our") for tag in act.tags)
    if advice.course is Course.RETURN:
        assert healthy(said) >= KNOWLEDGE.thresholds.sound
    if advice.trial is not None:
        assert advice.trial in said.next_trials
    if acting or advice.course is Course.TRY:
        assert "return" not in advice.sentence
    for suspect in said.suspects:
        assert 0.0 <= suspect.probability <= 1.0 + 1e-9


def test_each_of_the_first_suspects_names_its_deciding_test() -> None:
    words = tuple(word(0x1000 * n, 7, "A2") for n in range(1, 4))
    said = say(words, (ran(1, "memory", 15.0, 50.0),))
    first = [each for each in said.suspects[:3] if each.kind is not None]
    assert all(each.deciding_test for each in first)
    contact = next(each for each in said.suspects if each.mode == "memory.contact" and each.tag == "M1")
    assert contact.deciding_test.startswith("M2 alone, in slot A2")  # a contact that is M1's would be gone then
    assert "if it fails" in contact.deciding_test


def test_a_part_is_priced_once_for_two_faults_that_it_mends() -> None:
    """Two kinds of fault in one processor cost one processor."""
    hung = tuple(found(K.CORE_HANG, core=1) for _ in range(3))
    weak = tuple(found(K.CORRECTED_CHECK, core=2, temperature_c=94.0, run=1) for _ in range(3))
    said = say((*hung, *weak), (ran(1, "matrix", 20.0), ran(1, "matrix", 60.0, 55.0)))
    assert {each.mode for each in said.suspects[:2]} == {"processor.hanging-core", "processor.weak-core"}
    act = next(each for each in said.acts if each.tags == ("P",))
    assert act.price == PRICES.parts[P.PROCESSOR]
    nothing = next(each for each in said.acts if not each.steps)
    dearest = PRICES.comeback + PRICES.parts[P.PROCESSOR] + PRICES.time_cost(PRICES.minutes["replace processor"])
    assert nothing.risk <= dearest * 1.02
