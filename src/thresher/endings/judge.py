"""What kind of end it was: everything that was seen, weighed by `weights.toml`, with a probability and its reasons."""

import math
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from importlib import resources

from thresher.model.endings import SURE, EndingKind, KindChance, SeenAtEnd, Trace, named_kind
from thresher.model.errors import InputError, InputFault
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys

FORMAT = "thresher-endings/1"
_ELSE = "else"
_LEAST = 1e-4
"""Nothing that was read rules a kind out altogether, but for what cannot be."""
_NAMES_WHEN = 3.0
"""A trace is said to speak for a kind when it is so many times as likely under it as under the others together."""

Value = str | float


@dataclass(frozen=True, slots=True)
class Seen:
    """One thing that was seen, by its name in the weights, with what its words need, or its words as they were."""

    name: str
    values: tuple[tuple[str, Value], ...] = ()
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Observation:
    """How likely something is seen after each kind of ending."""

    name: str
    words: str
    likelihood: dict[str, float]
    source: str = ""

    def of(self, kind: EndingKind) -> float:
        """Return the likelihood under a kind."""
        return self.likelihood.get(kind.value, self.likelihood[_ELSE])


@dataclass(frozen=True, slots=True)
class Weights:
    """Priors of the kinds, and all observations by name."""

    prior: dict[EndingKind, float]
    observations: dict[str, Observation]


@dataclass(frozen=True, slots=True)
class Judgement:
    """The kinds, most probable first, what was seen in words, and the question that would decide, if any."""

    kind: EndingKind
    chances: tuple[KindChance, ...]
    traces: tuple[Trace, ...]
    asks: bool


def parse_weights(text: str, source: str) -> Weights:
    """Parse the weights. Raises InputError with every fault."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    unknown_keys(data, {"format", "prior", "observations"}, faults)
    prior = convert_section(data.get("prior", {}), dict[EndingKind, float], "prior", faults) or {}
    observations = convert_list(data, "observations", Observation, faults)
    kinds = {kind.value for kind in EndingKind}
    for index, each in enumerate(observations):
        place = f"observations[{index}].likelihood"
        if _ELSE not in each.likelihood:
            faults.append(InputFault(place, f"{each.name!r} lacks {_ELSE!r}"))
        for name, value in each.likelihood.items():
            if name not in kinds | {_ELSE}:
                faults.append(InputFault(f"{place}.{name}", "no such kind of ending"))
            if not 0.0 <= value <= 1.0:
                faults.append(InputFault(f"{place}.{name}", f"expected 0 to 1, found {value:g}"))
    if faults:
        raise InputError(source, faults)
    return Weights(prior, {each.name: each for each in observations})


@cache
def load_weights() -> Weights:
    """Return the weights that ship with the program."""
    text = resources.files("thresher.endings").joinpath("weights.toml").read_text(encoding="utf-8")
    return parse_weights(text, "endings/weights.toml")


def seen_by_person(seen: SeenAtEnd) -> Seen:
    """Return what somebody answered as something that was seen."""
    return Seen(seen.value)


def seen_again(traces: Iterable[Trace]) -> list[Seen]:
    """Return what had been seen when an end was judged before."""
    return [Seen(each.name, words=each.words) for each in traces]


def judge(seen: Iterable[Seen], weights: Weights) -> Judgement:
    """Weigh everything that was seen."""
    logs = {kind: math.log(weight) for kind, weight in weights.prior.items()}
    traces = []
    asked = False
    rebooted = True
    for each in seen:
        observation = weights.observations[each.name]
        asked = asked or each.name in set(SeenAtEnd)
        rebooted = rebooted and each.name != "same boot"
        for kind in logs:
            logs[kind] += math.log(max(observation.of(kind), _LEAST * _LEAST))
        words = each.words or observation.words.format(**dict(each.values))
        traces.append(Trace(each.name, words, _speaks_for(observation, weights)))
    top = max(logs.values())
    shares = {kind: math.exp(value - top) for kind, value in logs.items()}
    total = sum(shares.values())
    chances = tuple(
        sorted((KindChance(kind, share / total) for kind, share in shares.items()), key=lambda each: -each.probability)
    )
    kind = named_kind(chances)
    return Judgement(kind, chances, tuple(traces), rebooted and not asked and chances[0].probability < SURE)


def _speaks_for(observation: Observation, weights: Weights) -> EndingKind | None:
    """Return the kind that an observation makes much more probable than before, None where it hardly distinguishes."""
    best = max(weights.prior, key=observation.of)
    others = [kind for kind in weights.prior if kind is not best]
    weight = sum(weights.prior[kind] for kind in others)
    mean = sum(weights.prior[kind] * observation.of(kind) for kind in others) / weight
    return best if observation.of(best) > _NAMES_WHEN * mean else None
