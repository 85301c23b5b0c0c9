"""Suspects by enumeration: nothing faulty, each way of being faulty of each part and place, and pairs of them.

Model. Each faulty part has one unknown strength, findings per hour at reference conditions, log-normal over
a grid; it stays with the part through all trials. In a cell of evidence (a block at one band of temperature, on one
configuration) findings of kind k come as a Poisson process of rate

    strength * sensitivity(mode, load) * heat(mode, temperature) * shows(mode, k) + background(k)

of each faulty part that was installed then, and fall on cores as the mode says: always one, or any. A fault of a place
(a slot of the board) acts while something sits in that place. Minutes without a finding enter through the same rates.
Storms count little more than their first few. The likelihood is summed over the grid of strengths and over what is not
known of how hard each load strained it (`likelihood.py`).
"""

import math
from dataclasses import dataclass, replace

import numpy as np

from thresher.diagnosis.evidence import Evidence, Floats, Piece, pieces_of
from thresher.diagnosis.fault_table import table_of
from thresher.diagnosis.faults import Fault, faults_of_evidence, way_of
from thresher.diagnosis.knowledge import Action, Knowledge
from thresher.diagnosis.likelihood import Explained, FaultTable, Whole, explain, log_sum
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.trials import Book


@dataclass(frozen=True, slots=True)
class Posterior:
    """All hypotheses with what they are worth: `faults`, `hypotheses` as tuples of their numbers, log priors (H),
    prefixes of log posterior weights (H, P + 1), the posterior (H), and what the likelihood was made from. `members`
    (H, 2) are the numbers of the faults of each hypothesis, that of no fault (F) where there are fewer. `jobs` is how
    many closed jobs of the shop stand behind the priors.
    """

    faults: tuple[Fault, ...]
    hypotheses: tuple[tuple[int, ...], ...]
    prefixes: Floats
    posterior: Floats
    pieces: tuple[Piece, ...]
    explained: Explained
    table: FaultTable
    members: Whole
    jobs: int = 0


_ONE_EVENT = (
    frozenset({FindingKind.HEAT_LIMIT, FindingKind.HEAT_THROTTLE}),
    frozenset({FindingKind.CORE_HANG, FindingKind.LOCKED_UP}),
)
"""Kinds that report one event twice: a core at its limit lowers its clock, a core that hangs locks up."""
_ONE_MOMENT_S = 60.0


def counted(evidence: Evidence) -> Evidence:
    """Return the evidence without what is only a note, and without what reports an event a second time."""
    serious = [each for each in evidence.findings if each.severity is not Severity.NOTE]
    again = {number for kinds in _ONE_EVENT for number in _said_again(serious, kinds)}
    return replace(evidence, findings=tuple(each for number, each in enumerate(serious) if number not in again))


def _said_again(findings: list[Finding], kinds: frozenset[FindingKind]) -> set[int]:
    """Return the numbers of findings that report an event of a run that another kind has just reported."""
    mine = [n for n, each in enumerate(findings) if each.kind in kinds and each.run is not None]
    mine.sort(key=lambda n: (findings[n].run, findings[n].at, findings[n].kind.value))
    again: set[int] = set()
    first: list[Finding] = []  # what was reported in the last minute, each event by its first finding
    for number in mine:
        new = findings[number]
        first = [each for each in first if each.run == new.run and new.at - each.at <= _ONE_MOMENT_S]
        same_core = (each for each in first if each.core == new.core or None in (each.core, new.core))
        if any(each.kind is not new.kind for each in same_core):
            again.add(number)
        else:
            first.append(new)
    return again


def compute_posterior(evidence: Evidence, knowledge: Knowledge) -> Posterior:
    """Work out what every hypothesis is worth."""
    pieces = pieces_of(evidence)
    faults = faults_of_evidence(evidence, knowledge)
    table = table_of(faults, pieces, evidence, knowledge)
    pairs = _pairs(faults)
    priors = np.array([fault.log_prior for fault in faults])
    rare = math.log(knowledge.weights.together)
    # strays and bad parts of the shop come to sound and faulty machines alike, so that beside them a fault is as common
    anyway = -math.log(knowledge.weights.nothing)
    by_itself = np.array([fault.mode.harmless or fault.ours for fault in faults], dtype=np.bool_)
    dirt = np.array([fault.mode.action is Action.CLEAN for fault in faults], dtype=np.bool_)
    together = np.where(dirt[pairs].any(axis=1), math.log(knowledge.weights.dirt), rare)
    of_pairs = priors[pairs].sum(axis=1) + np.where(by_itself[pairs].any(axis=1), anyway, together)
    explained = explain(table, pairs, of_pairs)
    log_prior = np.concatenate(([math.log(knowledge.weights.nothing)], priors, of_pairs))
    likelihood = np.vstack((explained.none, explained.one, explained.two))
    prefixes = log_prior[:, None] + np.hstack((np.zeros((len(log_prior), 1)), likelihood))
    posterior = np.exp(prefixes[:, -1] - log_sum(prefixes[:, -1]))
    hypotheses = ((), *((number,) for number in range(len(faults))), *map(tuple, pairs.tolist()))
    healthy = len(faults)
    alone = np.column_stack((np.arange(healthy), np.full(healthy, healthy)))
    members = np.vstack(([[healthy, healthy]], alone, pairs)).astype(np.intp)
    return Posterior(
        tuple(faults), hypotheses, prefixes, posterior, tuple(pieces), explained, table, members, knowledge.jobs
    )


def _pairs(faults: list[Fault]) -> Whole:
    """Return the numbers of all pairs of faults (N, 2), but for one part faulty twice in the same way."""
    names: dict[tuple[str, str, str], int] = {}
    ways = np.array([names.setdefault(way_of(fault), len(names)) for fault in faults], dtype=np.intp)
    first, second = np.triu_indices(len(faults), 1)
    differ = ways[first] != ways[second]
    return np.column_stack((first[differ], second[differ])).astype(np.intp)


def chance_by_fault(posterior: Posterior) -> Floats:
    """Return the probability of each fault (F), alone or beside another."""
    chances = np.zeros(len(posterior.faults) + 1)
    for column in (0, 1):
        np.add.at(chances, posterior.members[:, column], posterior.posterior)
    return chances[:-1]


def of_kinds(posterior: Posterior, book: Book) -> Posterior:
    """Return what is known of kinds of parts before anything was tried, from what is known of each part in a book.

    Nothing distinguishes the machine's own parts of one kind then, except drives, which the kernel names; and a part of
    the shelf was not in the machine."""
    shelf = {part.tag for part in book.parts if part.known_good}
    absent = np.array([*(fault.tag in shelf for fault in posterior.faults), True])
    unnamed = tuple(
        fault if fault.mode.part is PartKind.DRIVE and fault.tag not in shelf else replace(fault, tag="", needs="")
        for fault in posterior.faults
    )
    members = np.where(absent[posterior.members], len(unnamed), posterior.members)
    return replace(posterior, faults=unnamed, members=members)


def shown_kinds(knowledge: Knowledge) -> frozenset[FindingKind]:
    """Return the kinds of findings that some way of being faulty shows."""
    return frozenset(kind for mode in knowledge.modes for kind in mode.shows)
