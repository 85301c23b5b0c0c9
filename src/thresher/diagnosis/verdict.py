"""The whole answer: suspects with reasons, statuses, a sentence, what to do, and the best next test."""

from dataclasses import replace

from thresher.diagnosis.advice import advise
from thresher.diagnosis.candidates import candidates
from thresher.diagnosis.clean_time import clean_table, how_long, seen_rate, shown_shares
from thresher.diagnosis.combined_findings import combined_reports, unexplained
from thresher.diagnosis.conclusions import sentence_of, statuses_of
from thresher.diagnosis.deciding_test import deciding_tests
from thresher.diagnosis.decision import Prices, decide
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.inference import Posterior, compute_posterior, counted, of_kinds, shown_kinds
from thresher.diagnosis.knowledge import Knowledge
from thresher.diagnosis.next_trial import dead_configurations, next_trials, starting_trials
from thresher.diagnosis.proof import Proof, prove
from thresher.diagnosis.suspects import suspects_of
from thresher.model.findings import ENDING_KINDS
from thresher.model.trials import EMPTY_BOOK, Book, Candidate, NextTrial
from thresher.model.verdict import Course, Suspect, Verdict


def diagnose(
    evidence: Evidence,
    knowledge: Knowledge,
    prices: Prices | None = None,
    offered: Book = EMPTY_BOOK,
    overnight: bool = False,
) -> Verdict:
    """Return the suspects with probabilities and reasons, most likely first.

    With prices also what to do; with a book of trials which trial is most informative next. `offered` is a book in
    which nothing was tried yet: it changes nothing but what could be tried. `overnight` when nobody will be at the
    bench for the night."""
    evidence = counted(evidence)
    seen = bool(evidence.findings or evidence.exposures)
    tried = evidence if evidence.book.trials or not seen else replace(evidence, book=offered)
    by_part = compute_posterior(tried, knowledge)
    posterior = by_part if tried is evidence else of_kinds(by_part, offered)
    suspects = suspects_of(posterior, evidence, tried.book)
    clean = clean_table(by_part, tried, knowledge)
    together, by_mode = how_long(by_part, clean, tried, knowledge)
    reported = (
        *combined_reports(evidence.findings, evidence.exposures),
        *unexplained(evidence.findings, shown_kinds(knowledge)),
    )
    known = seen or bool(evidence.book.trials)
    trials = tried.book.trials
    acts = decide(posterior, prices, knowledge.thresholds, tried.book) if prices is not None and known else ()
    crashed = any(each.kind in ENDING_KINDS for each in evidence.findings)
    options = candidates(tried.book, trials[-1].configuration, crashed) if trials else ()
    dead = bool(trials) and trials[-1].configuration in dead_configurations(tried)
    following: tuple[NextTrial, ...] = ()
    if dead:
        following = starting_trials(by_part, tried, options)
    elif trials:
        following = next_trials(by_part, tried, options, overnight=overnight)
    proof = Proof(None) if dead else prove(by_part, tried)
    advice = advise(acts, following, proof, knowledge.thresholds) if acts else None
    if advice is not None and advice.trial is not None and advice.course is Course.PROVE:
        following = (advice.trial, *following)
    if trials and not dead:
        suspects = _with_deciding_tests(suspects, by_part, tried, options)
    shown = shown_shares(posterior, clean)
    return Verdict(
        suspects,
        statuses_of(posterior, suspects, shown, knowledge, evidence, advice),
        sentence_of(suspects, knowledge, evidence, together.shown_share, advice),
        together.shown_share,
        together.minutes_to_95,
        together.minutes_to_99,
        by_mode,
        seen_rate(evidence),
        reported,
        acts,
        following,
        prices is not None and not prices.default,
        advice,
    )


_MOST_ASKED = 4


def _with_deciding_tests(
    suspects: tuple[Suspect, ...], posterior: Posterior, tried: Evidence, options: tuple[Candidate, ...]
) -> tuple[Suspect, ...]:
    """Return the suspects, the first ones with the test that would settle whether they are faulty."""
    ways = [suspect.way for suspect in suspects if suspect.kind is not None][:_MOST_ASKED]
    found = deciding_tests(posterior, tried, options, ways) if ways else {}
    return tuple(replace(each, deciding_test=found.get(each.way, "")) for each in suspects)
