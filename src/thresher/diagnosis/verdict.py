"""The whole answer: suspects with reasons, statuses, a sentence, what to do, and the best next test."""

from dataclasses import replace

from thresher.diagnosis.advice import advise
from thresher.diagnosis.clean_time import how_long, seen_rate, shown_shares
from thresher.diagnosis.combined_findings import combined_reports, unexplained
from thresher.diagnosis.conclusions import sentence_of, statuses_of
from thresher.diagnosis.decision import Prices, decide
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.inference import compute_posterior, counted, of_kinds, shown_kinds, suspects_of
from thresher.diagnosis.knowledge import Knowledge
from thresher.diagnosis.next_trial import candidates, next_trials
from thresher.model.findings import ENDING_KINDS
from thresher.model.trials import EMPTY_BOOK, Book
from thresher.model.verdict import Verdict


def diagnose(
    evidence: Evidence, knowledge: Knowledge, prices: Prices | None = None, offered: Book = EMPTY_BOOK
) -> Verdict:
    """Return the suspects with probabilities and reasons, most likely first.

    With prices also what to do; with a book of trials which trial is most informative next. `offered` is a book in
    which nothing was tried yet: it changes nothing but what could be tried."""
    evidence = counted(evidence)
    tried = evidence if evidence.book.trials or not evidence.findings else replace(evidence, book=offered)
    by_part = compute_posterior(tried, knowledge)
    posterior = by_part if tried is evidence else of_kinds(by_part, offered)
    suspects = suspects_of(posterior, evidence, tried.book)
    shown = shown_shares(evidence, knowledge)
    together, by_mode = how_long(evidence, knowledge)
    reported = (
        *combined_reports(evidence.findings, evidence.exposures),
        *unexplained(evidence.findings, shown_kinds(knowledge)),
    )
    known = bool(evidence.findings or evidence.book.trials)
    trials = tried.book.trials
    acts = decide(posterior, prices, knowledge.thresholds, tried.book) if prices is not None and known else ()
    crashed = any(each.kind in ENDING_KINDS for each in evidence.findings)
    options = candidates(tried.book, trials[-1].configuration, crashed) if trials else ()
    following = next_trials(by_part, tried, options) if trials else ()
    return Verdict(
        suspects,
        statuses_of(suspects, shown, knowledge),
        sentence_of(suspects, knowledge, evidence, together.shown_share),
        together.shown_share,
        together.minutes_to_95,
        together.minutes_to_99,
        by_mode,
        seen_rate(evidence),
        reported,
        acts,
        following,
        prices is not None and not prices.default,
        advise(acts, following, knowledge.thresholds) if acts else None,
    )
