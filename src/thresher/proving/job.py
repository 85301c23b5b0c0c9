"""One drawn job under way: what was found under which configuration, how long it took, what was bought."""

from dataclasses import dataclass, field, replace

from thresher.decoding.recognise import Tables
from thresher.diagnosis.decision import Prices
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import Action, Knowledge
from thresher.engine.services.trials import AS_IT_CAME
from thresher.model.findings import Finding
from thresher.model.trials import ALL_SETTINGS, ANOTHER_SLOT, Book, BookPart, Configuration, Trial
from thresher.model.verdict import EVERYDAY_USE, ActStep, Exposure
from thresher.proving.cases import SETTINGS, Case, scenario_under
from thresher.proving.fault_catalogue import ITEMS
from thresher.proving.quick_run import CHECKED, Carried, QuickBench, Stint


@dataclass(slots=True)
class Job:
    """A case on the bench, with everything seen so far. `minutes` is all bench time, runs included.

    `visits` is how often somebody came to it: to set up a run or to do something."""

    case: Case
    tables: Tables
    knowledge: Knowledge
    prices: Prices
    book: Book = field(init=False)
    findings: list[Finding] = field(default_factory=list)
    exposures: list[Exposure] = field(default_factory=list)
    minutes: float = 0.0
    runs: int = 0
    visits: int = 0
    bought: list[str] = field(default_factory=list)
    done: list[ActStep] = field(default_factory=list)

    def __post_init__(self) -> None:
        """Begin with the machine as it came in."""
        configuration = self.case.first_configuration
        self.book = Book((*self.case.own, *self.case.shelf), (Trial(0, AS_IT_CAME, configuration),))

    @property
    def configuration(self) -> Configuration:
        """What is installed now."""
        return self.book.trials[-1].configuration

    @property
    def evidence(self) -> Evidence:
        """All that is known so far."""
        cores = self.case.machine.processor.cores
        return Evidence(tuple(self.findings), tuple(self.exposures), cores, self.case.symptoms, self.book)

    def read_log(self) -> None:
        """Process what the machine's own log reports of its use before it came in, and what its drives report."""
        bench = QuickBench(scenario_under(self.case, self.case.first_configuration, 0), self.tables, None)
        self.findings += bench.read_health()
        if self.case.log_hours:
            used = bench.live_everyday(self.case.log_hours)
            self.findings += used.findings
            self.exposures += used.exposures

    def set_up(self, title: str, configuration: Configuration, minutes: float, kept: bool = False) -> None:
        """Begin a trial, unless it is the same configuration again; `kept` when it is how the machine stays."""
        self.minutes += minutes
        if configuration != self.configuration or kept:
            trial = Trial(len(self.book.trials), title, configuration, kept=kept)
            self.book = replace(self.book, trials=(*self.book.trials, trial))

    def run(self, stints: tuple[Stint, ...], enough: int) -> Carried:
        """Carry out a run under the present configuration and keep what it found."""
        self.runs += 1
        self.visits += 1
        bench = QuickBench(scenario_under(self.case, self.configuration, self.runs), self.tables, self.runs)
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

    def check(self) -> None:
        """Carry out a round of component checks under the present configuration, on a machine that has a person."""
        scenario = scenario_under(self.case, self.configuration, self.runs + 1)
        if not scenario.fittings.person:
            return
        self.runs += 1
        self.visits += 1
        carried = QuickBench(scenario, self.tables, self.runs).check(CHECKED)
        last = self.book.trials[-1]
        self.book = replace(self.book, trials=(*self.book.trials[:-1], replace(last, runs=(*last.runs, self.runs))))
        self.findings += carried.findings
        self.exposures += carried.exposures
        self.minutes += carried.minutes

    def act(self, steps: tuple[ActStep, ...]) -> None:
        """Do what was decided, permanently, to the machine as it is to be handed back so far."""
        configuration = self.book.base or self.case.first_configuration
        for step in steps:
            self.done.append(step)
            configuration = self._after(step, configuration)
        self.book = replace(self.book, parts=(*self.case.own, *self.case.shelf))
        self.set_up(" and ".join(f"{step.action} {step.tag}".strip() for step in steps), configuration, 0.0, kept=True)

    def _after(self, step: ActStep, configuration: Configuration) -> Configuration:
        if step.action == Action.STOCK:
            return replace(configuration, stock=ALL_SETTINGS)
        if step.action in (Action.CLEAN, Action.RESEAT):
            return replace(configuration, treated=(*configuration.treated, step.tag))
        if step.action == Action.MOVE:
            places = tuple((ANOTHER_SLOT if place == step.tag else place, tag) for place, tag in configuration.places)
            return replace(configuration, places=places, treated=(*configuration.treated, step.tag))
        assert step.kind is not None
        if step.tag in ITEMS:
            self.bought.append(step.tag)
            return replace(configuration, treated=(*configuration.treated, step.tag))
        new = f"N{len(self.bought) + 1}"
        self.bought.append(step.tag)
        self.case = replace(self.case, shelf=(*self.case.shelf, BookPart(new, step.kind, known_good=True)))
        return configuration.swapped(step.tag, new)


def needed_steps(case: Case) -> set[tuple[str, str]]:
    """Return what would fix a machine: actions and tags (empty for settings)."""
    treated = (Action.CLEAN, Action.RESEAT)
    return {
        (each.remedy.value, "" if each.tag == SETTINGS else each.kind.value if each.remedy in treated else each.tag)
        for each in case.own_troubles
    }


def is_needed(step: ActStep, needed: set[tuple[str, str]]) -> bool:
    """Return whether a step is one of those that are needed."""
    return (step.action, step.tag) in needed
