"""Remedies, cheapest first: what each is expected to gain on this machine, and what was measured after each."""

from collections.abc import Sequence
from dataclasses import dataclass

from thresher.heat.analysis import SpanHeat
from thresher.heat.change import Change, Group, changed
from thresher.heat.heat_path import AIR, CASE_PIECE, QUICK, TOO_OPEN_K, Piece, RemedyData, heat_path_data, pieces_of
from thresher.heat.warming import Band

_LEAST_K = 0.5
"""What gains less than this at best is not listed."""
_TREATS = {"air": (AIR,), "quick": (QUICK,), "case": (CASE_PIECE,), "both": (QUICK, AIR)}


@dataclass(frozen=True, slots=True)
class Remedy:
    """A remedy and what it is expected to gain here, in K at the power of the newest run (5th to 95th percentile)."""

    name: str
    words: str
    gain: Band

    @property
    def worth_it(self) -> bool:
        """Whether it is likely to gain a kelvin at all."""
        return self.gain.value >= 1.0


@dataclass(frozen=True, slots=True)
class Step:
    """A state of the machine on the way from first to last: its plateau at common power and room, and what it gained.

    `change` is None for the first, and where it cannot be compared with the one before, which `refused` then explains.
    """

    name: str
    plateau_c: float
    change: Change | None
    refused: str = ""


def expected(heat: SpanHeat, reference: float | None = None) -> tuple[Remedy, ...]:
    """Return what each remedy would gain on a machine as its newest run shows it; empty where nothing is known."""
    pieces = {each.name: each for each in pieces_of(heat, reference)}
    if not pieces or heat.power_w is None or (not heat.reached and heat.plateau.error > TOO_OPEN_K):
        return ()
    made = (Remedy(each.name, each.words, _gain(each, pieces, heat.power_w)) for each in heat_path_data().remedies)
    return tuple(each for each in made if each.gain.high >= _LEAST_K)


def _gain(remedy: RemedyData, pieces: dict[str, Piece], power_w: float) -> Band:
    treated = [pieces[name] for name in _TREATS[remedy.treats] if name in pieces]
    # a stage within its limit still gains a little from a new part
    excess = sum(max(0.0, each.resistance.value - each.allowed * 0.8) for each in treated) * power_w
    more = remedy.gains_share * sum(each.resistance.value for each in treated) * power_w
    low, high = remedy.low * excess + more * 0.5, remedy.high * excess + more * 1.5
    return Band((low + high) / 2.0, low, high)


def steps(groups: Sequence[Group], refused: Sequence[str], room_c: float) -> tuple[Step, ...]:
    """Return the states from first to last, each against the one before, at one power and in one room.

    `refused` says for each state but the first why it cannot be compared with the one before, empty where it can.
    """
    if not groups:
        return ()
    powers = [run.power_w for group in groups for run in group.runs]
    common = None
    if all(each is not None for each in powers):
        known = sorted(each for each in powers if each is not None)
        common = known[len(known) // 2]
    made: list[Step] = []
    for number, group in enumerate(groups):
        why_not = refused[number - 1] if number else ""
        change = changed(groups[number - 1], group) if number and not why_not else None
        above = [
            run.resistance.value * common if common is not None and run.resistance is not None else run.above_room.value
            for run in group.runs
        ]
        made.append(Step(group.name, room_c + sum(above) / len(above), change, why_not))
    return tuple(made)
