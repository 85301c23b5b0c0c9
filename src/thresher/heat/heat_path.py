"""What resistance a heat path may have, and what is wrong with one in the trade's words."""

import tomllib
from dataclasses import dataclass
from enum import StrEnum
from functools import cache
from importlib.resources import files

import msgspec
import numpy as np

from thresher.heat.analysis import SpanHeat
from thresher.heat.load_span import CASE, COOLANT
from thresher.heat.throttling import Cause
from thresher.heat.warming import Band, band_of
from thresher.model.parts import PartKind


class _Shares(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    quick: float
    air: float
    case: float


class _Judgement(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    poor: float
    bad: float
    limit_low_k: float


class RemedyData(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A remedy: which stage of the heat path it treats, and which share of the stage's excess it takes away.

    `gains_share` is what it gains besides, as a share of the stage, even where the stage has no excess.
    """

    name: str
    words: str
    treats: str
    low: float
    high: float
    gains_share: float = 0.0


class HeatPathData(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The whole file."""

    format: str
    air_c: float
    processor: _Shares
    graphics: _Shares
    drive: _Shares
    judgement: _Judgement
    remedies: tuple[RemedyData, ...]

    def shares(self, kind: PartKind) -> _Shares:
        """Return the shares of a kind of part."""
        return {PartKind.GRAPHICS: self.graphics, PartKind.DRIVE: self.drive}.get(kind, self.processor)


@cache
def heat_path_data() -> HeatPathData:
    """Return the data that ships with the program."""
    text = files("thresher.heat").joinpath("heat_path.toml").read_text()
    return msgspec.convert(tomllib.loads(text), HeatPathData)


class Trouble(StrEnum):
    """What is wrong with a heat path."""

    NOTHING = "nothing wrong"
    SEATING = "dry paste or badly seated cooler"
    AIR = "dust or slow fan"
    PUMP = "no coolant flow"
    CASE = "poor case airflow"
    SMALL = "cooler too small or room too hot"
    LIMIT_LOW = "throttle limit set too low"
    UNKNOWN = "cannot be judged"


@dataclass(frozen=True, slots=True)
class Piece:
    """A stage of the heat path: its resistance and the largest that is still good, both in K/W."""

    name: str
    resistance: Band
    allowed: float

    @property
    def times(self) -> float:
        """The resistance as a multiple of the largest that is still good."""
        return self.resistance.value / self.allowed if self.allowed > 0 else 0.0


TOO_OPEN_K = 4.0
"""A plateau that was not reached and is known less exactly than this says nothing about the heat path."""
QUICK, AIR, CASE_PIECE = "die to cooler", "cooler to air", "case to room"


@dataclass(frozen=True, slots=True)
class HeatVerdict:
    """What is wrong, in words: the trouble, a sentence, the reasons, and the pieces that it rests on."""

    trouble: Trouble
    sentence: str
    reasons: tuple[str, ...]
    pieces: tuple[Piece, ...]
    expected: float | None
    expected_from: str


def pieces_of(heat: SpanHeat, reference: float | None = None) -> tuple[Piece, ...]:
    """Divide the heat path into what is quick (die, paste, base), what is slow (fins and air), and the case.

    `reference` is the resistance of a known-good run; without one what is allowed comes from
    the part's own limits. Empty where power or limits are not known.
    """
    data = heat_path_data()
    shares = data.shares(heat.span.kind)
    allowed = reference if reference is not None else allowed_resistance(heat)
    if allowed is None or heat.resistance is None or heat.power_w is None:
        return ()
    draws = heat.resistance_draws
    assert draws is not None
    case = next((each.resistance for each in heat.stages if each.begins == CASE), None)
    case_draws = np.full(len(draws), case.value) if case is not None else np.zeros(len(draws))
    quick = heat.quick
    pieces = []
    if quick is not None:
        rest = np.maximum(draws - quick - case_draws, 0.0)
        pieces = [
            Piece(QUICK, band_of(quick), allowed * shares.quick),
            Piece(AIR, band_of(rest), allowed * shares.air),
        ]
    if case is not None:
        pieces.append(Piece(CASE_PIECE, case, allowed * shares.case))
    return tuple(pieces)


def allowed_resistance(heat: SpanHeat) -> float | None:
    """Return the largest resistance in K/W with which a part keeps below its limit at its power limit in warm air."""
    span = heat.span
    power = span.power_limit_w or heat.power_w
    if span.limit_c is None or not power:
        return None
    return (span.limit_c - heat_path_data().air_c) / power


def judge(heat: SpanHeat, reference: float | None = None) -> HeatVerdict:
    """Say what is wrong with a heat path, and why."""
    pieces = pieces_of(heat, reference)
    allowed = reference if reference is not None else allowed_resistance(heat)
    source = "a known-good run" if reference is not None else "the part's own limits"
    reasons = [each.sentence for each in heat.throttling]
    trouble, sentence = _trouble(heat, pieces, allowed, reasons)
    return HeatVerdict(trouble, sentence, tuple(reasons), pieces, allowed, source)


def _trouble(
    heat: SpanHeat, pieces: tuple[Piece, ...], allowed: float | None, reasons: list[str]
) -> tuple[Trouble, str]:
    """Return the trouble and its sentence; what it rests on is added to the reasons."""
    data = heat_path_data().judgement
    if heat.broken is not None and heat.broken.kelvin > 0:
        reasons.append(
            f"After {heat.broken.at_s / 60:.0f} min the plateau rose by {heat.broken.kelvin:.0f} K at the same power"
            " and fan speed"
        )
        coolant = any(name == COOLANT for name, _ in heat.span.stages)
        words = "the pump and the coolant flow" if coolant else "pump, cooler seating, and fans that report no speed"
        return Trouble.PUMP, f"Cooling got worse during the run: check {words}."
    stopped = [name for name, rpm in heat.fans if rpm < 1.0 and _is_cooler_fan(name)]
    if stopped:
        reasons.append(f"{stopped[0]} reports 0 rpm under load")
        return Trouble.AIR, f"{stopped[0]} has stopped."
    by_heat = any(each.cause is Cause.HEAT for each in heat.throttling)
    if heat.span.limit_c is not None and by_heat and heat.plateau.value < heat.span.limit_c - data.limit_low_k:
        reasons.append(f"It throttles at {heat.plateau.value:.0f} °C, its own limit is {heat.span.limit_c:.0f} °C")
        return Trouble.LIMIT_LOW, "The throttle limit is set too low: check the firmware setup."
    if not heat.reached and heat.plateau.error > TOO_OPEN_K:
        words = f"Too short to judge: the plateau is only known to ±{heat.plateau.error:.0f} K. Run it longer."
        return Trouble.UNKNOWN, words
    if allowed is None or heat.resistance is None:
        return Trouble.UNKNOWN, "No power or limit reported: only temperatures can be compared."
    reasons += [
        f"{each.name.capitalize()}: {each.resistance.value:.2f} K/W, good up to {each.allowed:.2f}" for each in pieces
    ]
    return _by_pieces(heat, pieces, heat.resistance.value / allowed)


def _by_pieces(heat: SpanHeat, pieces: tuple[Piece, ...], whole: float) -> tuple[Trouble, str]:
    """Return the trouble by the worst stage; `whole` is the whole resistance as a multiple of what is allowed."""
    data = heat_path_data().judgement
    poor = [each for each in pieces if each.times >= (data.bad if each.name == CASE_PIECE else data.poor)]
    worst = max(poor, key=lambda each: each.times) if poor else None
    if whole < 1.0 and (worst is None or worst.times < data.bad):
        return Trouble.NOTHING, f"No heat problem: {_headroom(heat)}."
    if worst is not None:
        return _WORST[worst.name]
    return Trouble.SMALL, "The cooler is too small for this part, or the room too hot: no single stage stands out."


_WORST = {
    QUICK: (Trouble.SEATING, "Heat does not reach the cooler: dry paste, or a badly seated cooler."),
    AIR: (Trouble.AIR, "The cooler does not get rid of the heat: dust, or a fan that is too slow."),
    CASE_PIECE: (Trouble.CASE, "Warm air does not leave the case: check case fans and airflow."),
}


def _headroom(heat: SpanHeat) -> str:
    if heat.span.limit_c is None:
        return f"{heat.plateau.value:.0f} °C"
    room = heat.throttles_in_room_c
    words = f"{heat.plateau.value:.0f} °C, {heat.span.limit_c - heat.plateau.value:.0f} K below its limit"
    return words + (f"; it would throttle in a {room.value:.0f} °C room" if room is not None else "")


def _is_cooler_fan(name: str) -> bool:
    return "cpu" in name.lower() or "cooler" in name.lower() or "gpu" in name.lower()
