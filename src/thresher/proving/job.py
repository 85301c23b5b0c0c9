"""One drawn job under way: what was found under which fit, how long it took, what was bought."""

from dataclasses import dataclass, field, replace

from thresher.decoding.anything import Tables
from thresher.diagnosis.decision import Prices
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import Action, Knowledge
from thresher.engine.book_desk import AS_IT_CAME
from thresher.model.findings import Finding
from thresher.model.trials import ALL_SETTINGS, Book, BookPart, Fit, Trial
from thresher.model.verdict import EVERYDAY_USE, ActStep, Exposure
from thresher.proving.cases import SETTINGS, Case, scenario_under
from thresher.proving.quick_run import Carried, QuickBench, Stint


@dataclass(slots=True)
class Job:
    """A case on the bench, with everything seen so far. `minutes` is all bench time, runs included."""

    case: Case
    tables: Tables
    knowledge: Knowledge
    prices: Prices
    book: Book = field(init=False)
    findings: list[Finding] = field(default_factory=list)
    exposures: list[Exposure] = field(default_factory=list)
    minutes: float = 0.0
    runs: int = 0
    bought: list[str] = field(default_factory=list)
    done: list[ActStep] = field(default_factory=list)

    def __post_init__(self) -> None:
        """Begin with the machine as it came in."""
        fit = self.case.first_fit
        self.book = Book((*self.case.own, *self.case.shelf), (Trial(0, AS_IT_CAME, fit),))

    @property
    def fit(self) -> Fit:
        """What is fitted now."""
        return self.book.trials[-1].fit

    @property
    def evidence(self) -> Evidence:
        """All that is known so far."""
        cores = self.case.machine.processor.cores
        return Evidence(tuple(self.findings), tuple(self.exposures), cores, self.case.symptoms, self.book)

    def read_log(self) -> None:
        """Take in what the machine's own log tells of its use before it came in."""
        if self.case.log_hours:
            bench = QuickBench(scenario_under(self.case, self.case.first_fit, 0), self.tables, None)
            used = bench.live_everyday(self.case.log_hours)
            self.findings += used.findings
            self.exposures += used.exposures

    def set_up(self, title: str, fit: Fit, minutes: float, kept: bool = False) -> None:
        """Begin a trial, unless it is the same fit again; `kept` when it is how the machine stays."""
        self.minutes += minutes
        if fit != self.fit or kept:
            trial = Trial(len(self.book.trials), title, fit, kept=kept)
            self.book = replace(self.book, trials=(*self.book.trials, trial))

    def run(self, stints: tuple[Stint, ...], enough: int) -> Carried:
        """Carry out a run under the present fit and keep what it found."""
        self.runs += 1
        bench = QuickBench(scenario_under(self.case, self.fit, self.runs), self.tables, self.runs)
        if stints[0].load == EVERYDAY_USE:
            carried = bench.use_everyday(stints[0].minutes)
        else:
            carried = bench.carry_out(stints, enough)
        last = self.book.trials[-1]
        trials = (*self.book.trials[:-1], replace(last, runs=(*last.runs, self.runs)))
        self.book = replace(self.book, trials=trials)
        self.findings += carried.findings
        self.exposures += carried.exposures
        self.minutes += carried.minutes
        return carried

    def act(self, steps: tuple[ActStep, ...]) -> None:
        """Do what was decided, for good, to the machine as it is to be handed back so far."""
        fit = self.book.base or self.case.first_fit
        for step in steps:
            self.done.append(step)
            fit = self._after(step, fit)
        self.book = replace(self.book, parts=(*self.case.own, *self.case.shelf))
        self.set_up(" and ".join(f"{step.action} {step.tag}".strip() for step in steps), fit, 0.0, kept=True)

    def _after(self, step: ActStep, fit: Fit) -> Fit:
        if step.action == Action.STOCK:
            return replace(fit, stock=ALL_SETTINGS)
        if step.action in (Action.CLEAN, Action.RESEAT):
            return replace(fit, treated=(*fit.treated, step.tag))
        assert step.kind is not None
        new = f"N{len(self.bought) + 1}"
        self.bought.append(step.tag)
        self.case = replace(self.case, shelf=(*self.case.shelf, BookPart(new, step.kind, ours=True)))
        return fit.swapped(step.tag, new)


def needed_steps(case: Case) -> set[tuple[str, str]]:
    """Return what would mend a machine: actions and tags (empty for settings)."""
    treated = (Action.CLEAN, Action.RESEAT)
    return {
        (each.remedy.value, "" if each.tag == SETTINGS else each.kind.value if each.remedy in treated else each.tag)
        for each in case.own_troubles
    }


def is_needed(step: ActStep, needed: set[tuple[str, str]]) -> bool:
    """Return whether a step is one of those that are needed."""
    return (step.action, step.tag) in needed
