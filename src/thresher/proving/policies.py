"""Ways to handle a job: the program's own advice, and rules of thumb to compare it with."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from thresher.compose.sheet_file import load_sheet, shipped_sheets
from thresher.diagnosis.knowledge import Action
from thresher.diagnosis.verdict import diagnose
from thresher.engine.services.proposals import Candidate, propose
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, RunSheet
from thresher.model.trials import ALL_SETTINGS
from thresher.model.verdict import Act, ActStep, Course, Verdict
from thresher.proving.cases import SETTINGS, Case, troubles_left
from thresher.proving.job import Job
from thresher.proving.quick_run import Stint

_MOST_TRIALS = 60
_MOST_MINUTES = 16 * 60.0
_MOST_ACTS = 3
_MORE_LIKELY = 0.5
_ENOUGH = 3
_ENOUGH_IN_PROOF = 30
_SWAP_MINUTES = 10.0
_THOROUGH = (Stint("matrix", 20.0), Stint("memory", 30.0), Stint("branchy", 10.0), Stint("relay", 10.0))
_PROOF = (Stint("matrix", 40.0), Stint("memory", 40.0), Stint("branchy", 20.0), Stint("relay", 20.0))
"""As long as the program's own advice may ask for, before a machine is handed back."""
_FIRST_MINUTES = 60.0


@dataclass(frozen=True, slots=True)
class Prediction:
    """What a diagnosis predicted for one part (or settings, or of nothing being faulty), and whether it was so."""

    name: str
    probability: float
    true: bool


@dataclass(frozen=True, slots=True)
class Finished:
    """How a job ended: the steps of its first act, those of all acts, and what was predicted on the way."""

    first: tuple[ActStep, ...]
    steps: tuple[ActStep, ...]
    predictions: tuple[Prediction, ...]


Way = Callable[[Job], Finished]
"""How a job is handled."""


def load_sheets() -> tuple[Candidate, ...]:
    """Return the run sheets that ship, for the proposal."""
    return tuple(Candidate(name, False, str(path), load_sheet(path)) for name, path in shipped_sheets().items())


def first_stints(symptoms: tuple[str, ...], sheets: tuple[Candidate, ...]) -> tuple[Stint, ...]:
    """Return the blocks of the sheet that the program proposes for what the customer says, in their order."""
    best = propose(sheets, symptoms, _FIRST_MINUTES, ())[0]
    sheet = next(each.sheet for each in sheets if each.name == best.name)
    assert sheet is not None
    return _stints(sheet)


def _stints(sheet: RunSheet) -> tuple[Stint, ...]:
    blocks: list[Block] = sorted(sheet.blocks, key=lambda block: block.start_s)
    return tuple(
        Stint(block.load, block.length_s / 60.0, block.patterns, block.wait_s)
        if block.patterns
        else Stint(block.load, block.length_s / 60.0)
        for block in blocks
    )


def follow_advice(sheets: tuple[Candidate, ...]) -> Way:
    """Return the policy that does what the program says, to the end."""

    def go(job: Job) -> Finished:
        predictions: list[Prediction] = []
        job.read_log()
        job.check()
        job.run(first_stints(job.case.symptoms, sheets), job.case.enough)
        first: tuple[ActStep, ...] = ()
        for _ in range(_MOST_ACTS):
            act = _until_decided(job, predictions)
            if act is None or not act.steps:
                break
            first = first or act.steps
            job.act(act.steps)
            job.minutes += act.minutes
            job.visits += 1
        return Finished(first, tuple(job.done), tuple(predictions))

    return go


def _until_decided(job: Job, predictions: list[Prediction]) -> Act | None:
    """Make the trials that are advised until an act is, or until nothing more is available."""
    for _ in range(_MOST_TRIALS):
        verdict = diagnose(job.evidence, job.knowledge, job.prices)
        predictions += judged(verdict, job)
        advice = verdict.advice
        if advice is None or advice.course not in (Course.TRY, Course.PROVE) or advice.trial is None:
            return advice.act if advice is not None else None
        if job.minutes > _MOST_MINUTES:
            return _when_time_is_up(verdict)
        trial = advice.trial
        job.set_up(trial.candidate.title, trial.candidate.configuration, trial.candidate.minutes)
        # what throttles all the time is no reason to break a proof off
        enough = max(job.case.enough, _ENOUGH_IN_PROOF) if advice.course is Course.PROVE else job.case.enough
        job.run(tuple(Stint(*each) for each in trial.stints), enough)
    return None


def _when_time_is_up(verdict: Verdict) -> Act | None:
    """Return what somebody does whose bench time is used up before the advice is sure: what costs least by expectation.

    Parts that are more likely sound than not are bought by nobody.
    """
    least = min(verdict.acts, key=lambda act: act.expected)
    return least if least.steps and all(step.needed >= _MORE_LIKELY for step in least.steps) else None


def judged(verdict: Verdict, job: Job) -> list[Prediction]:
    """Return what a verdict says of each part beside what is so; for nothing, that nothing is left to be repaired."""
    case, knowledge = job.case, job.knowledge
    truth = {trouble.tag for trouble in case.troubles}
    sound = not troubles_left(case, job.book.base or case.first_configuration)
    by_name: dict[str, float] = {}
    for suspect in verdict.suspects:
        healthy = suspect.kind is None
        settings = not healthy and knowledge.mode(suspect.mode).of_settings
        item = "" if healthy else knowledge.mode(suspect.mode).item
        place = "" if healthy or not knowledge.mode(suspect.mode).moves else suspect.place or suspect.part
        name = SETTINGS if settings else "" if healthy else place or item or suspect.tag
        by_name[name] = by_name.get(name, 0.0) + suspect.probability
    return [
        Prediction(name, min(1.0, probability), name in truth if name else sound)
        for name, probability in by_name.items()
    ]


# ---- rules of thumb


@dataclass(frozen=True, slots=True)
class _Try:
    action: Action
    kind: PartKind | None


_FIXED_ORDER = (
    _Try(Action.STOCK, None),
    _Try(Action.RESEAT, PartKind.MEMORY),
    _Try(Action.REPLACE, PartKind.MEMORY),
    _Try(Action.CLEAN, PartKind.COOLING),
    _Try(Action.REPLACE, PartKind.COOLING),
    _Try(Action.REPLACE, PartKind.POWER),
    _Try(Action.RESEAT, PartKind.DRIVE),
    _Try(Action.REPLACE, PartKind.DRIVE),
    _Try(Action.RESEAT, PartKind.BOARD),
    _Try(Action.REPLACE, PartKind.GRAPHICS),
    _Try(Action.REPLACE, PartKind.BOARD),
    _Try(Action.REPLACE, PartKind.PROCESSOR),
)
"""What comes off easily first, the parts that take the machine apart last."""


def in_fixed_order(job: Job) -> Finished:
    """Swap part after part in the same order for every machine, with the shop's own where it has one."""
    return _one_after_the_other(job, _FIXED_ORDER, uses_shelf=True, proof=_PROOF)


def cheapest_first(job: Job) -> Finished:
    """Buy the cheapest part that could be it, then the next dearer one, until the machine is clean."""

    def cost(each: _Try) -> float:
        price = job.prices.parts.get(each.kind, 0.0) if each.action is Action.REPLACE and each.kind else 0.0
        return price + job.prices.time_cost(_SWAP_MINUTES)

    return _one_after_the_other(job, tuple(sorted(_FIXED_ORDER, key=cost)), uses_shelf=False)


def _runs_clean(job: Job, proof: tuple[Stint, ...]) -> bool:
    """Whether a thorough run finds nothing, and the proof after it neither."""
    return not job.run(_THOROUGH, 1).findings and not (proof and job.run(proof, 1).findings)


def _one_after_the_other(
    job: Job, order: tuple[_Try, ...], uses_shelf: bool, proof: tuple[Stint, ...] = ()
) -> Finished:
    if _runs_clean(job, proof):
        return Finished((), (), ())
    first: tuple[ActStep, ...] = ()
    for each in order:
        for step in _steps_of(each, job.case):
            before = job.configuration
            ours = next((part.tag for part in job.case.shelf if part.kind is each.kind), None)
            job.minutes += job.prices.minutes.get(f"replace {each.kind.value}" if each.kind else "", _SWAP_MINUTES)
            swapped = uses_shelf and ours is not None and each.action is Action.REPLACE
            if swapped and ours is not None:
                job.set_up(f"{ours} in place of {step.tag}", before.swapped(step.tag, ours), 0.0)
            else:
                job.act((step,))
                first = first or (step,)
            if _runs_clean(job, proof):
                if swapped:
                    first = first or (step,)
                    job.act((step,))
                return Finished(first, tuple(job.done), ())
            if swapped:
                job.set_up("back as it was", before, 0.0)
    return Finished(first, tuple(job.done), ())


def _steps_of(each: _Try, case: Case) -> list[ActStep]:
    if each.kind is None:
        return [ActStep(each.action.value, "", None)]
    if each.action is not Action.REPLACE:
        return [ActStep(each.action.value, each.kind.value, each.kind)]
    tags = [part.tag for part in case.own if part.kind is each.kind]
    return [ActStep(each.action.value, tag, each.kind) for tag in tags]


def every_trial(job: Job) -> Finished:
    """Make every swap that the shelf allows and every treatment before deciding: what evidence alone can give."""
    predictions: list[Prediction] = []
    job.read_log()
    job.run(_THOROUGH, _ENOUGH)
    start = job.configuration
    for part in job.case.own:
        ours = next((each.tag for each in job.case.shelf if each.kind is part.kind), None)
        if ours is not None:
            job.set_up(f"{ours} in place of {part.tag}", start.swapped(part.tag, ours), _SWAP_MINUTES)
            job.run(_THOROUGH, _ENOUGH)
    for configuration in (
        replace(start, stock=ALL_SETTINGS),
        *(replace(start, treated=(kind,)) for kind in _TREATABLE),
    ):
        job.set_up("treated", configuration, _SWAP_MINUTES)
        job.run(_THOROUGH, _ENOUGH)
    verdict = diagnose(job.evidence, job.knowledge, job.prices)
    predictions += judged(verdict, job)
    act = verdict.advice.act if verdict.advice is not None else None
    if act is not None:
        job.act(act.steps)
    return Finished(act.steps if act is not None else (), tuple(job.done), tuple(predictions))


_TREATABLE = ("cooling", "memory", "board", "drive")
