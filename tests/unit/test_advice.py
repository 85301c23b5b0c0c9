"""What to do: sound acts before cheap ones, trials before guesses, and an end when nothing more can be known."""

from dataclasses import replace

import pytest

from thresher.diagnosis.advice import advise
from thresher.diagnosis.candidates import candidates, swap_minutes
from thresher.diagnosis.decision import decide, is_sound, load_prices
from thresher.diagnosis.evidence import Again, Evidence, logged_share, signs_of
from thresher.diagnosis.inference import compute_posterior, counted
from thresher.diagnosis.knowledge import load_knowledge, parse_knowledge
from thresher.diagnosis.next_trial import next_trials
from thresher.diagnosis.proof import Proof
from thresher.diagnosis.verdict import diagnose
from thresher.model.errors import InputError
from thresher.model.findings import Finding, FindingKind, Severity, WrongPlace
from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import ALL_SETTINGS, Book, BookPart, Configuration, Ended, Outcome, Trial
from thresher.model.verdict import EVERYDAY_USE, Course, Exposure, Verdict

P, K = PartKind, FindingKind
KNOWLEDGE, PRICES = load_knowledge(), load_prices()
LIMITS = KNOWLEDGE.thresholds
PARTS = (
    BookPart("B", P.BOARD),
    BookPart("P", P.PROCESSOR),
    BookPart("M1", P.MEMORY),
    BookPart("M2", P.MEMORY),
    BookPart("S", P.POWER),
    BookPart("C", P.COOLING),
    BookPart("D", P.DRIVE),
    BookPart("our M", P.MEMORY, known_good=True),
    BookPart("our P", P.PROCESSOR, known_good=True),
    BookPart("our B", P.BOARD, known_good=True),
)
FIT = Configuration(("B", "P", "M1", "M2", "S", "C", "D"), (("A2", "M1"), ("B2", "M2")))


def word(address: int, bit: int = 19, steady: bool = True, slot: str = "", run: int = 1) -> Finding:
    place = WrongPlace(address, address, "0" * 16, f"{1 << bit:016x}", steady)
    return Finding(
        "M-210",
        K.MEMORY_WRONG,
        Severity.FAULT,
        P.MEMORY,
        1.0,
        "t",
        "d",
        slot,
        load="memory",
        temperature_c=50.0,
        places=(place,),
        run=run,
    )


def seen(kind: FindingKind, load: str = "matrix", core: int | None = None, run: int = 1, count: int = 1) -> Finding:
    return Finding(
        "X-1",
        kind,
        Severity.FAULT,
        P.PROCESSOR,
        1.0,
        "t",
        "d",
        core=core,
        load=load,
        temperature_c=80.0,
        run=run,
        count=count,
    )


def book(*trials: Trial) -> Book:
    return Book(PARTS, trials or (Trial(0, "as it came in", FIT, (1,)),))


def verdict(
    findings: tuple[Finding, ...],
    exposures: tuple[Exposure, ...] = (),
    symptoms: tuple[str, ...] = (),
    kept: Book | None = None,
) -> Verdict:
    return diagnose(Evidence(findings, exposures, 4, symptoms, kept or book()), KNOWLEDGE, PRICES)


def chance(shown: Verdict, *modes: str) -> float:
    return sum(each.probability for each in shown.suspects if each.mode in modes)


MEMORY_RUN = (Exposure(1, 0, "memory", 10.0, 50.0),)


# ---- what findings say beside their kind


def test_the_same_steady_word_again_is_a_cell_and_wandering_ones_are_the_way() -> None:
    cell = verdict((word(0x1000), word(0x1000), word(0x1000)), MEMORY_RUN)
    assert chance(cell, "memory.cells") > 0.9
    wandering = verdict(tuple(word(0x1000 * n, bit=n, steady=False) for n in range(1, 5)), MEMORY_RUN)
    assert chance(wandering, "memory.cells", "memory.lines") < 0.1
    assert chance(wandering, "memory.settings", "processor.memory-controller", "processor.settings") > 0.7
    lane = verdict(tuple(word(0x1000 * n, bit=7, steady=False) for n in range(1, 5)), MEMORY_RUN)
    assert chance(lane, "memory.contact", "board.memory-path", "board.slot") > 0.8


def test_words_in_one_slot_accuse_the_module_that_sits_there() -> None:
    shown = verdict((word(0x1000, slot="B2"), word(0x1000, slot="B2")), MEMORY_RUN)
    by_tag = {each.tag: each.probability for each in shown.suspects if each.mode == "memory.cells"}
    assert by_tag["M2"] > 0.8
    assert by_tag["M1"] < 0.05
    assert shown.statuses["M2"] is PartStatus.REPLACE
    assert shown.statuses["M1"] is not PartStatus.REPLACE


def test_one_of_two_modules_is_doubt_about_both_and_no_reason_to_buy() -> None:
    shown = verdict((word(0x1000), word(0x1000), word(0x1000)), MEMORY_RUN)
    assert shown.statuses["M1"] is PartStatus.IN_DOUBT
    assert shown.statuses["memory"] is PartStatus.IN_DOUBT
    assert shown.advice is not None
    assert shown.advice.course is Course.TRY
    assert shown.advice.trial is not None
    assert "alone" in shown.advice.trial.candidate.title or "our M" in shown.advice.trial.candidate.title


def test_signs_hold_later_words_against_earlier_ones() -> None:
    signs = signs_of((word(0x1000), word(0x1000), word(0x2000, bit=3, steady=False), seen(K.RAIL_OUT)))
    assert [sign.word for sign in signs] == [None, Again.SAME, Again.OTHER, None]
    assert [sign.lane for sign in signs] == [None, Again.SAME, Again.OTHER, None]
    assert [sign.steady for sign in signs] == [True, True, False, None]
    repeated = replace(seen(K.WRONG_RESULT), repeats=3, wrong_again=3)
    assert signs_of((repeated, replace(repeated, wrong_again=0)))[0].steady is True
    assert signs_of((replace(repeated, wrong_again=0),))[0].steady is False


def test_everyday_use_without_a_sign_states_nothing_of_what_only_comparing_shows() -> None:
    controller, drive = KNOWLEDGE.mode("processor.memory-controller"), KNOWLEDGE.mode("drive.media")
    assert logged_share(controller, EVERYDAY_USE) < 0.4
    assert logged_share(drive, EVERYDAY_USE) == pytest.approx(1.0)
    assert logged_share(controller, "memory") == 1.0
    quiet = (Exposure(0, -1, EVERYDAY_USE, 1200.0, None),)
    before, after = verdict(()), verdict((), quiet)
    assert chance(after, "drive.media") < 0.5 * chance(before, "drive.media")
    assert chance(after, "memory.cells") > 0.5 * chance(before, "memory.cells")


def test_wrong_data_are_one_thing_under_whatever_load() -> None:
    shown = verdict((word(0x1000, bit=1, steady=False), seen(K.WRONG_RESULT), seen(K.WRONG_RESULT)), MEMORY_RUN)
    assert chance(shown, "memory.cells") < 0.1


def test_strays_are_no_reason_to_do_anything_and_hide_no_fault() -> None:
    kinds = (K.MEMORY_CORRECTED, K.LINK_CORRECTED, K.GRAPHICS_HANG, K.DRIVE_LINK)
    strays = tuple(replace(seen(kind, EVERYDAY_USE), run=None) for kind in kinds)
    use = (Exposure(0, -1, EVERYDAY_USE, 1500.0, None),)
    shown = verdict(strays, use, kept=book(Trial(0, "as it came in", FIT)))
    assert all(each.mode != "nothing.strays" for each in shown.suspects)
    assert chance(shown, "nothing") > 0.4
    loaded = verdict(strays, (*use, Exposure(1, 0, "matrix", 30.0, 70.0)))
    assert all(each.mode != "nothing.strays" for each in loaded.clean_time)
    with_fault = verdict((*strays, word(0x1000), word(0x1000)), (*use, *MEMORY_RUN))
    assert chance(with_fault, "memory.cells") > 0.8


def test_a_core_that_hangs_is_one_core_s_own_fault() -> None:
    later = replace(seen(K.LOCKED_UP, core=2), at=500.0)
    shown = verdict((seen(K.CORE_HANG, core=2), later), (Exposure(1, 0, "matrix", 20.0, 70.0),))
    assert chance(shown, "processor.hanging-core") > 0.7
    assert next(each for each in shown.suspects if each.mode == "processor.hanging-core").place == "core 2"


def test_what_is_reported_of_the_machine_accuses_no_part_of_the_shelf() -> None:
    plain, wording = verdict(()), verdict((), (), ("files damaged", "will not finish an installation"))
    shelf = [
        next(each.probability for each in shown.suspects if each.tag == "our M" and each.mode == "memory.cells")
        for shown in (plain, wording)
    ]
    own = [
        next(each.probability for each in shown.suspects if each.tag == "M1" and each.mode == "memory.cells")
        for shown in (plain, wording)
    ]
    assert own[1] > own[0]
    assert shelf[1] <= shelf[0] * 1.01


# ---- acts


def test_healthy_acts_come_first_and_nothing_is_bought_on_a_guess() -> None:
    shown = verdict((word(0x1000, slot="A2"), word(0x1000, slot="A2")), MEMORY_RUN)
    assert is_sound(shown.acts[0], LIMITS)
    assert shown.advice is not None
    assert (shown.advice.course, shown.advice.act) == (Course.ACT, shown.acts[0])
    assert [step.tag for step in shown.acts[0].steps] == ["M1"]
    sound = [is_sound(act, LIMITS) for act in shown.acts]
    assert sound == sorted(sound, reverse=True)
    guess = verdict((seen(K.ENDED_SUDDENLY),), (Exposure(1, 0, "matrix", 10.0, 70.0),))
    assert not is_sound(guess.acts[0], LIMITS)
    assert guess.advice is not None
    assert guess.advice.course is Course.TRY


def test_every_step_is_held_to_its_own_threshold() -> None:
    shown = verdict((word(0x1000, slot="A2"), word(0x1000, slot="A2")), MEMORY_RUN)
    act = shown.acts[0]
    doubtful = replace(act, steps=(*act.steps, replace(act.steps[0], tag="S", needed=0.9)))
    assert not is_sound(doubtful, LIMITS)
    treated = replace(act, steps=(*act.steps, replace(act.steps[0], action="clean", tag="cooling", needed=0.9)))
    assert is_sound(treated, LIMITS)


def test_nothing_is_done_to_parts_of_the_shop_or_that_are_out() -> None:
    swapped = Configuration(("B", "P", "our M", "M2", "S", "C", "D"), (("A2", "our M"), ("B2", "M2")))
    new = Configuration(("B", "P", "our M", "M2", "S", "C", "D"))
    tried = Trial(1, "ours", swapped, (2,))
    failing = (word(0x1000), word(0x1000), word(0x1000, run=2))
    shown = verdict(failing, (), kept=book(Trial(0, "as it came in", FIT, (1,)), tried))
    assert all("our" not in step.tag for act in shown.acts for step in act.steps)
    kept = book(Trial(0, "as it came in", FIT, (1,)), Trial(1, "replaced", new, (2,), kept=True))
    assert kept.base == new
    proof = (Exposure(2, 0, "memory", 60.0, 50.0), Exposure(2, 1, "matrix", 90.0, 80.0))
    after = verdict((word(0x1000), word(0x1000)), proof, kept=kept)
    assert all(step.tag != "M1" for act in after.acts for step in act.steps)
    assert chance(after, "memory.cells") > 0.8  # it was M1, and M1 is out
    assert after.advice is not None
    assert after.advice.course is Course.RETURN


def test_all_of_a_kind_are_seated_again_together() -> None:
    shown = verdict(tuple(word(0x1000 * n, bit=7, steady=False) for n in range(1, 6)), MEMORY_RUN)
    words = {act.words for act in shown.acts if len(act.steps) == 1}
    assert "reseat the memory" in words
    assert not any("M1" in each and "seat" in each for each in words)


def test_a_machine_that_was_clean_for_long_is_handed_back() -> None:
    loads = ("matrix", "memory", "branchy", "relay")
    long = tuple(Exposure(1, number, load, 240.0, 75.0) for number, load in enumerate(loads))
    shown = verdict((), (*long, Exposure(1, 9, EVERYDAY_USE, 600.0, None)))
    assert shown.advice is not None
    assert shown.advice.course is Course.RETURN
    assert "return to customer" in shown.advice.sentence
    assert shown.advice.act is not None
    assert shown.advice.act.steps == ()


def test_without_a_trial_that_reports_anything_nobody_is_kept_waiting() -> None:
    posterior = compute_posterior(counted(Evidence((seen(K.ENDED_SUDDENLY),), (), 4, (), book())), KNOWLEDGE)
    advice = advise(decide(posterior, PRICES, LIMITS, book()), (), Proof(None), LIMITS)
    assert advice.course is Course.WATCH
    assert advice.act is None
    assert "Cannot tell" in advice.sentence


# ---- trials


def test_the_way_back_to_its_own_parts_is_offered_and_costs_its_swaps() -> None:
    now = Configuration(("our B", "our P", "M1", "M2", "S", "C", "D"), FIT.places)
    kept = book(Trial(0, "as it came in", FIT, (1,)), Trial(1, "ours", now))
    offered = {each.title: each for each in candidates(kept, now)}
    back = offered["With its own parts again"]
    assert set(back.configuration.tags) == set(FIT.tags)
    assert back.minutes == swap_minutes(kept, now, FIT)
    assert back.minutes == swap_minutes(kept, now, replace(now, tags=("B", *now.tags[1:]))) + swap_minutes(
        kept, now, replace(now, tags=(now.tags[0], "P", *now.tags[2:]))
    )
    assert swap_minutes(kept, FIT, FIT) == 0.0
    assert "With its own parts again" not in {each.title for each in candidates(kept, FIT)}


def test_the_way_back_to_the_settings_as_they_were_is_offered() -> None:
    stock = replace(FIT, stock=ALL_SETTINGS)
    tried = book(Trial(0, "as it came in", FIT, (1,)), Trial(1, "stock", stock))
    offered = {each.title: each for each in candidates(tried, stock)}
    assert offered["Settings as they were"].configuration == FIT
    assert "Settings back to stock" not in offered
    assert "Settings as they were" not in {each.title for each in candidates(tried, FIT)}


def test_a_machine_without_a_graphics_card_suspects_none() -> None:
    posterior = compute_posterior(counted(Evidence((), (), 4, (), book())), KNOWLEDGE)
    assert PartKind.GRAPHICS not in {part.kind for part in book().parts}
    assert not {fault.mode.part for fault in posterior.faults} & {PartKind.GRAPHICS, PartKind.DISPLAY}
    without_book = compute_posterior(counted(Evidence((), (), 4, ())), KNOWLEDGE)
    assert PartKind.GRAPHICS in {fault.mode.part for fault in without_book.faults}


def test_treatments_are_offered_for_what_is_fitted_and_once() -> None:
    titles = [each.title for each in candidates(book(), FIT)]
    assert {"Cleaned", "Modules reseated", "Cards and plugs reseated"} <= set(titles)
    treated = replace(FIT, treated=("cooling", "memory"))
    again = [each.title for each in candidates(book(), treated)]
    assert "Cleaned" not in again
    assert "Modules reseated" not in again
    no_drive = replace(FIT, tags=tuple(tag for tag in FIT.tags if tag != "D"))
    assert not any("drive" in each.title for each in candidates(book(), no_drive))


def test_a_fault_of_messages_is_looked_for_with_messages() -> None:
    trials = book(Trial(0, "as it came in", FIT, (1,), (Outcome(Ended.FAILED, "relay", 5.0, K.MESSAGE_WRONG, 0.5),)))
    evidence = Evidence((), (), 4, (), trials)
    found = next_trials(compute_posterior(evidence, KNOWLEDGE), evidence, candidates(trials, FIT), most=40)
    assert "relay" in {load for each in found for load, _ in each.stints}


def test_nothing_that_writes_is_proposed_for_a_drive_that_loses_data() -> None:
    lost = Finding("D-310", K.DRIVE_FAILED, Severity.FAULT, P.DRIVE, 1.0, "t", "d", load="everyday use", run=1)
    clean = (Exposure(1, 0, "memory", 240.0, 50.0), Exposure(1, 1, "matrix", 480.0, 80.0))

    def proposed(*findings: Finding) -> set[str]:
        evidence = Evidence(findings, clean, 4, ("drive not found", "files damaged"), book())
        posterior = compute_posterior(evidence, KNOWLEDGE)
        found = next_trials(posterior, evidence, candidates(book(), FIT), most=40)
        return {load for each in found for load, _ in each.stints}

    assert "write and compare" in proposed()
    assert "write and compare" not in proposed(lost)


def test_nobody_needs_to_know_whether_a_part_of_the_shelf_is_faulty() -> None:
    shown = verdict((), (Exposure(1, 0, "memory", 120.0, 50.0), Exposure(1, 1, "matrix", 120.0, 80.0)))
    assert all("our" not in each.if_found for each in shown.next_trials)


# ---- the knowledge base


def test_the_knowledge_base_refuses_shares_that_are_none() -> None:
    from importlib import resources

    text = resources.files("thresher.diagnosis").joinpath("knowledge.toml").read_text(encoding="utf-8")
    for broken, message in (
        (text.replace("same_words = 0.9", "same_words = 1.5", 1), "must be between 0 and 1"),
        (text.replace("nothing = 0.85", "nothing = 0.0", 1), "must be above 0"),
        (text.replace("buy = 0.95", 'buy = "sure"', 1), "thresholds"),
    ):
        with pytest.raises(InputError, match=message):
            parse_knowledge(broken, "knowledge.toml")
