"""What a job comes to, in sentences and figures: what was wrong, what was done, the proof, what to watch, the price.

Every sentence is a proposal that a person may replace (`TEXTS`); facts come from the stored job and the verdict alone.
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from importlib import resources

import msgspec

from thresher.diagnosis.decision import Prices
from thresher.journal.jobfile import JobFile, StoredRun
from thresher.model.checks import CheckOutcome
from thresher.model.decisions import Decisions, culprit_words
from thresher.model.findings import Finding, Severity
from thresher.model.job import TEXTS
from thresher.model.parts import Inventory, PartKind
from thresher.model.run_states import Ending
from thresher.model.tomlfile import parse_toml
from thresher.model.trials import EMPTY_BOOK, Book, Trial
from thresher.model.verdict import Course, Suspect, Verdict, percent, suspect_title
from thresher.report.invoice import Bill, bill_of
from thresher.report.proof import Proof, proof_of
from thresher.shop.details import ShopDetails

_LIKELY = 0.5
_MOST_SEEN = 4
_COOLER_K = 3.0


@dataclass(frozen=True, slots=True)
class Handover:
    """What the customer's page says. `proposed` are the texts before a person changed them, by name (`TEXTS`)."""

    headline: str
    subline: str
    wrong: tuple[str, ...]
    done: tuple[str, ...]
    proof: Proof
    watch: tuple[str, ...]
    bill: Bill
    proposed: dict[str, str]


class _PlainWords(msgspec.Struct, frozen=True):
    modes: dict[str, dict[str, str]]
    parts: dict[str, dict[str, str]]

    def of(self, mode: str, kind: PartKind | None, what: str) -> str:
        """Return the customer's words for a way of being faulty; empty where there are none."""
        by_part = self.parts.get(kind.value, {}) if kind is not None else {}
        return self.modes.get(mode, {}).get(what) or by_part.get(what, "")


def _plain_words() -> _PlainWords:
    text = resources.files("thresher.report").joinpath("plain_words.toml").read_text(encoding="utf-8")
    return msgspec.convert(parse_toml(text, "plain_words.toml", "thresher-plain-words/1"), _PlainWords)


def handover_of(
    stored: JobFile, fields: dict[str, str], verdict: Verdict, details: ShopDetails, prices: Prices | None = None
) -> Handover:
    """Return what a job with such fields comes to. Raises InputError for a damaged file."""
    job, book, decisions = fields, stored.book() or EMPTY_BOOK, stored.decisions()
    runs, machine = stored.runs(), stored.machine()
    repairs = [trial for trial in book.trials[1:] if trial.kept]
    proof = proof_of(stored, runs, book)
    words = _plain_words()
    texts = {
        "text_wrong": _wrong(stored, runs, verdict, decisions, words, repairs, book, proof),
        "text_done": _done(repairs, book),
        "text_watch": _watch(machine, verdict, decisions, words, repairs, book),
    }
    chosen = {name: job.get(name, "").strip() or text for name, text in texts.items()}
    name = job.get("machine", "").strip() or "computer"
    headline, subline = _head(name, bool(runs), repairs, book, verdict, proof)
    summary = job.get("text_summary", "").strip()
    assert set(texts) | {"text_summary"} == set(TEXTS)
    return Handover(
        headline,
        summary or subline,
        _paragraphs(chosen["text_wrong"]),
        _paragraphs(chosen["text_done"]),
        proof,
        _paragraphs(chosen["text_watch"]),
        bill_of(book, verdict, details, prices),
        texts | {"text_summary": subline},
    )


def _paragraphs(text: str) -> tuple[str, ...]:
    return tuple(line.strip() for line in text.splitlines() if line.strip())


def _head(name: str, tested: bool, repairs: list[Trial], book: Book, verdict: Verdict, proof: Proof) -> tuple[str, str]:
    """Return the sentence that counts, and the one below it."""
    advice = verdict.advice
    course = advice.course if advice is not None else Course.WATCH
    your = f"Your {name.rpartition(',')[2].strip()}" if "," in name else "Your computer"
    replaced = _replaced(repairs, book)
    if not tested and not repairs:
        return f"{your} has not been tested yet.", "No run has been carried out under this job."
    if repairs:
        parts = f"Replaced: {', '.join(replaced)}." if replaced else "No part had to be replaced."
        if proof.clean and course is not Course.ACT:
            return f"{your} is fixed.", parts
        if proof.findings:
            return f"{your} was repaired, but still shows errors.", parts
        return f"{your} was repaired. The run that proves it is still to come.", parts
    if advice is not None and course is Course.ACT and advice.act is not None:
        chance = percent(advice.act.fix_probability)
        return f"{your} needs a repair.", f"{_capital(advice.act.words)}: {chance} chance that this fixes it."
    if course is Course.RETURN:
        return f"No fault was found in {your[0].lower()}{your[1:]}.", "Everything that was tested works as it should."
    return f"{your} is still being tested.", verdict.sentence


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _replaced(repairs: list[Trial], book: Book) -> list[str]:
    """Return what went out for good, in words, oldest first."""
    found: list[str] = []
    before = book.trials[0].configuration.tags if book.trials else ()
    for trial in repairs:
        out = [tag for tag in before if tag not in trial.configuration.tags]
        for tag in out:
            part = book.part(tag)
            found.append(f"{part.kind.word} {part.name}".strip() if part is not None else tag)
        before = trial.configuration.tags
    return list(dict.fromkeys(found))


def _wrong(
    stored: JobFile,
    runs: Sequence[StoredRun],
    verdict: Verdict,
    decisions: Decisions,
    words: _PlainWords,
    repairs: list[Trial],
    book: Book,
    proof: Proof,
) -> str:
    lines = []
    actual = decisions.actual_cause
    if actual is not None:
        lines += [
            words.of(each.mode, each.kind, "wrong") or f"{culprit_words(each)} was faulty." for each in actual.culprits
        ]
        if not actual.culprits:
            lines.append("Nothing in the hardware was faulty.")
    else:
        likely = suspected(verdict)
        if likely is not None:
            plain = words.of(likely.mode, likely.kind, "wrong")
            chance = f"{suspect_title(likely)}, {percent(likely.probability)} likely"
            lines.append(f"{plain or _capital(likely.title) + '.'} ({chance}.)")
        else:
            lines += [words.of(mode, kind, "wrong") for mode, kind in _treated_modes(repairs, book)]
    if proof.before is not None and proof.after is not None and repairs:
        hot, cool = max(proof.before.celsius), max(proof.after.celsius)
        if hot - cool >= _COOLER_K:
            limit = f", with a limit of {proof.limit_c:.0f} °C" if proof.limit_c is not None else ""
            lines.append(f"Under the same load it reached {hot:.0f} °C before and {cool:.0f} °C after{limit}.")
    seen = seen_in(stored, runs)
    if seen:
        lines.append(f"What we saw: {seen}.")
    return "\n".join(lines) or "We found no fault."


def _treated_modes(repairs: list[Trial], book: Book) -> list[tuple[str, PartKind]]:
    """Return what was wrong by what was done, where no verdict names it: what was cleaned was dusty."""
    before = set(book.trials[0].configuration.treated) if book.trials else set()
    treated = [tag for trial in repairs for tag in trial.configuration.treated if tag not in before]
    kinds = {part.kind if (part := book.part(tag)) is not None else tag for tag in treated}
    modes = {PartKind.COOLING: "cooling.clogged", PartKind.GRAPHICS: "graphics.heat", PartKind.MEMORY: "memory.contact"}
    return [(mode, kind) for kind, mode in modes.items() if kind in kinds]


def suspected(verdict: Verdict) -> Suspect | None:
    """Return the suspect that is more likely than not: gone ones too, since they were what was wrong."""
    faulty = [each for each in verdict.suspects if each.kind is not None]
    best = max(faulty, key=lambda each: each.probability, default=None)
    return best if best is not None and best.probability >= _LIKELY else None


def seen_in(stored: JobFile, runs: Sequence[StoredRun]) -> str:
    """Return what was found, most frequent first, as a person counts it."""
    counts: Counter[str] = Counter()
    findings: list[Finding] = [*stored.findings_outside(), *(each for run in runs for each in stored.findings(run))]
    for finding in findings:
        if finding.severity is not Severity.NOTE:
            counts[finding.kind.value] += finding.count
    shown = [f"{count} × {what}" if count > 1 else what for what, count in counts.most_common(_MOST_SEEN)]
    return ", ".join(shown)


def _done(repairs: list[Trial], book: Book) -> str:
    lines = [f"{_capital(trial.title)}." if not trial.title.endswith(".") else trial.title for trial in repairs]
    tried = [trial for trial in book.trials[1:] if not trial.kept]
    if tried:
        lines.append(f"Tried to find the cause: {'; '.join(trial.title for trial in tried)}.")
    return "\n".join(lines) or "Tested only; nothing was changed."


def _watch(
    machine: Inventory | None,
    verdict: Verdict,
    decisions: Decisions,
    words: _PlainWords,
    repairs: list[Trial],
    book: Book,
) -> str:
    lines: list[str] = []
    for part in machine.parts_of(PartKind.DRIVE) if machine is not None else ():
        health = part.fact("health")
        if health == "watch":
            lines.append(f"Drive {part.name} shows early signs of wear. Keep a backup of what matters.")
        elif health in ("copy the data off now", "replace"):
            lines.append(f"Drive {part.name} is failing. Copy the data off it now and have it replaced.")
    actual = decisions.actual_cause
    causes = [(each.mode, each.kind) for each in actual.culprits] if actual is not None else []
    likely = suspected(verdict)
    if actual is None and likely is not None and likely.kind is not None:
        causes = [(likely.mode, likely.kind)]
    if not causes:
        causes = _treated_modes(repairs, book)
    lines += [text for mode, kind in causes if (text := words.of(mode, kind, "watch"))]
    if not repairs and verdict.advice is not None and verdict.advice.course is Course.RETURN:
        lines.append("If it happens again, note the time and what was running, and bring the computer back.")
    return "\n".join(dict.fromkeys(lines)) or "Nothing special."


@dataclass(frozen=True, slots=True)
class Left:
    """Something that was not read or not tested, and why."""

    what: str
    why: str


def left_open(stored: JobFile, machine: Inventory | None, runs: Sequence[StoredRun]) -> tuple[Left, ...]:
    """Return what could not be read or was not tested: sources, checks that could not tell, parts without a load."""
    found = [
        Left(fact.name, f"{fact.value} ({fact.source})") for fact in (machine.unknown if machine is not None else ())
    ]
    for run in runs:
        found += [
            Left(each.title, each.missing or each.why)
            for each in stored.check_results(run)
            if each.outcome in (CheckOutcome.INCONCLUSIVE, CheckOutcome.NEEDS_PERSON)
        ]
        if run.ending is not None and run.ending is not Ending.FINISHED:
            found.append(Left(f"run {run.number}, {run.title}", f"{run.ending}, {run.ending_detail}"))
    loaded = {block.row for run in runs for block in run.sheet.blocks}
    loadable = (PartKind.PROCESSOR, PartKind.MEMORY, PartKind.GRAPHICS, PartKind.DRIVE)
    there = [kind for kind in loadable if machine is not None and machine.parts_of(kind)]
    found += [Left(kind.word, "no load ran on it under this job") for kind in there if kind not in loaded]
    return tuple(dict.fromkeys(found))


def day_words(wall: float) -> str:
    """Return the day of a Unix time as a person writes it: 17 Mar 2026."""
    return f"{datetime.fromtimestamp(wall).astimezone():%-d %b %Y}"
