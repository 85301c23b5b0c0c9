"""What to do: the act of least expected cost, from prices, bench time and the cost of a comeback.

An act mends a fault when it replaces its part, cleans or seats anew what such a fault comes from, or takes settings
back. The expected cost of an act is its price and time and, where it leaves a fault in, the cost of a comeback and of
the right repair then: a fault is not cheaper for being left alone.
"""

import math
from dataclasses import dataclass, field, replace
from importlib import resources
from itertools import combinations
from pathlib import Path

import numpy as np

from thresher.diagnosis.evidence import Floats
from thresher.diagnosis.inference import Fault, Weighed, acts_under
from thresher.diagnosis.knowledge import Action, Thresholds
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_section, parse_toml, unknown_keys
from thresher.model.trials import EMPTY_BOOK, Book, Fit
from thresher.model.verdict import Act, ActStep

FORMAT = "thresher-prices/1"
_MOST_ACTS = 8
_PAIRED = 10
_WORTH_NAMING = 0.01
"""Acts that mend something less likely than this are not listed."""
_TREATMENT_MENDS = 0.97
"""How surely cleaning or seating anew mends a fault that comes from dust or contact; the makers' judgement."""


@dataclass(frozen=True, slots=True)
class Prices:
    """What the shop charges and pays: money an hour of bench time, for a comeback, by part; minutes by act.

    `default` where the shop has not set its own.
    """

    an_hour: float
    comeback: float
    parts: dict[PartKind, float]
    minutes: dict[str, float]
    default: bool = True

    def time_cost(self, minutes: float) -> float:
        """Return what bench time costs."""
        return minutes / 60.0 * self.an_hour


def parse_prices(text: str, source: str, default: bool = False) -> Prices:
    """Parse a price list. Raises InputError with every fault."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    unknown_keys(data, {"format", "an_hour", "comeback", "parts", "minutes"}, faults)
    an_hour = convert_section(data.get("an_hour"), float, "an_hour", faults)
    comeback = convert_section(data.get("comeback"), float, "comeback", faults)
    parts = convert_section(data.get("parts", {}), dict[PartKind, float], "parts", faults)
    minutes = convert_section(data.get("minutes", {}), dict[str, float], "minutes", faults)
    for name, values in (("parts", parts), ("minutes", minutes)):
        for key, value in (values or {}).items():
            if value < 0:
                faults.append(InputFault(f"{name} {key}", f"expected 0 or more, found {value:g}"))
    for name, money in (("an_hour", an_hour), ("comeback", comeback)):
        if money is not None and money < 0:
            faults.append(InputFault(name, f"expected 0 or more, found {money:g}"))
    if faults or an_hour is None or comeback is None or parts is None or minutes is None:
        raise InputError(source, faults)
    return Prices(an_hour, comeback, parts, minutes, default)


def default_price_list() -> str:
    """Return the text of the price list that comes with the program, for a shop to begin its own with."""
    return resources.files("thresher.diagnosis").joinpath("prices.toml").read_text(encoding="utf-8")


def load_prices() -> Prices:
    """Return the prices that come with the program."""
    return parse_prices(default_price_list(), "prices.toml", default=True)


def read_prices(path: Path) -> Prices:
    """Return a shop's own prices, the defaults where it has no list. Raises InputError."""
    try:
        return parse_prices(path.read_text(encoding="utf-8"), str(path))
    except FileNotFoundError:
        return load_prices()
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(str(path), [InputFault("file", str(error))]) from error


@dataclass(frozen=True, slots=True)
class _Simple:
    words: str
    action: Action
    tag: str
    kind: PartKind | None
    price: float
    minutes: float
    mended: frozenset[int] = field(default=frozenset())


def decide(weighed: Weighed, prices: Prices, limits: Thresholds, book: Book = EMPTY_BOOK) -> tuple[Act, ...]:
    """Return what may be done, at most some eight acts: the sound ones first, each by its expected cost.

    Faults of parts that are not in the machine as it is to be handed back so far (`Book.base`), or that were treated,
    are none to be mended, and nothing is done to parts that are not in it or that are the shop's.
    """
    weighed = _left_in(weighed, book.base)
    every = _simple_acts(weighed, prices, book)
    later = _repairs(every, weighed, prices)
    simple = [each for each in every if _share_mended(each, weighed) >= _WORTH_NAMING]
    acts = [_act((), weighed, prices, later)]
    alone = [(each, _act((each,), weighed, prices, later)) for each in simple]
    acts += [act for _, act in alone]
    # two together are worth looking at where each does something by itself
    promising = [each for each, _ in sorted(alone, key=lambda pair: -_share_mended(pair[0], weighed))[:_PAIRED]]
    acts += [_act(pair, weighed, prices, later) for pair in combinations(promising, 2) if _differ(*pair)]

    def order(act: Act) -> tuple[bool, float, float, int]:
        return not is_sound(act, limits), act.expected, act.price, len(act.tags)

    return tuple(sorted(acts, key=order)[:_MOST_ACTS])


def is_sound(act: Act, limits: Thresholds) -> bool:
    """Return whether an act may be done by now: nothing bought in vain, no treatment on a mere guess."""
    if not act.steps:
        return act.needed >= limits.sound
    return all(step.needed >= (limits.buy if step.action == Action.REPLACE else limits.treat) for step in act.steps)


def _share_mended(act: _Simple, weighed: Weighed) -> float:
    """Return how likely an act mends something, whatever else is left."""
    mine = np.zeros(len(weighed.faults) + 1)
    mine[list(act.mended)] = 1.0
    return float((mine[weighed.members].max(axis=1) * weighed.posterior).sum())


def _differ(one: _Simple, other: _Simple) -> bool:
    """Whether two acts add up to something: none contains what the other mends."""
    return not (one.mended <= other.mended or other.mended <= one.mended)


def _treatments(weighed: Weighed, prices: Prices, mine: set[int]) -> list[_Simple]:
    """Return what is cleaned or seated anew: all parts of a kind together, since that is how it is done."""
    acts = []
    for action in (Action.CLEAN, Action.RESEAT):
        kinds = {weighed.faults[number].mode.part for number in mine if weighed.faults[number].mode.action is action}
        for kind in sorted(kinds):
            mended = {
                n for n in mine if weighed.faults[n].mode.action is action and weighed.faults[n].mode.part is kind
            }
            minutes = prices.minutes.get(action.value, 15.0)
            words = f"{_TREATMENT_WORDS[action]} the {kind.value}"
            acts.append(_Simple(words, action, kind.value, kind, 0.0, minutes, frozenset(mended)))
    return acts


_TREATMENT_WORDS = {Action.CLEAN: "clean", Action.RESEAT: "seat anew"}

_LEFT = 0.5
"""A fault that is there to a smaller share under the fit that is handed back counts as mended by it."""


def _left_in(weighed: Weighed, base: Fit | None) -> Weighed:
    """Return the same with hypotheses cut down to the faults that the machine would be handed back with."""
    nobody = len(weighed.faults)
    gone = np.array([*(fault.mode.harmless or acts_under(fault, base) < _LEFT for fault in weighed.faults), True])
    return replace(weighed, members=np.where(gone[weighed.members], nobody, weighed.members))


def _simple_acts(weighed: Weighed, prices: Prices, book: Book) -> list[_Simple]:
    acts: list[_Simple] = []
    base = book.base
    ours = {part.tag for part in book.parts if part.ours}
    named: dict[tuple[str, PartKind], set[int]] = {}
    for number, fault in enumerate(weighed.faults):
        if fault.mode.harmless:
            continue
        if not fault.mode.of_settings and fault.tag not in ours and (base is None or fault.tag in ("", *base.tags)):
            named.setdefault((fault.tag, fault.mode.part), set()).add(number)
    for (tag, kind), numbers in named.items():
        name = tag or kind.value
        minutes = prices.minutes.get(f"replace {kind.value}", 30.0)
        price = prices.parts.get(kind, 0.0)
        acts.append(_Simple(f"replace {name}", Action.REPLACE, name, kind, price, minutes, frozenset(numbers)))
    acts += _treatments(weighed, prices, {number for numbers in named.values() for number in numbers})
    settings = frozenset(n for n, fault in enumerate(weighed.faults) if fault.mode.of_settings)
    if base is not None and all(acts_under(weighed.faults[n], base) < _LEFT for n in settings):
        settings = frozenset()
    if settings:
        minutes = prices.minutes.get(Action.STOCK.value, 8.0)
        acts.append(_Simple("back to stock settings", Action.STOCK, "", None, 0.0, minutes, settings))
    return acts


def _repairs(simple: list[_Simple], weighed: Weighed, prices: Prices) -> Floats:
    """Return for each hypothesis what its repair costs when it is known: the cheapest act for each of its faults."""
    cheapest: dict[int, float] = {}
    for each in simple:
        cost = each.price + prices.time_cost(each.minutes)
        for number in each.mended:
            cheapest[number] = min(cheapest.get(number, math.inf), cost)
    costs = np.array([cheapest.get(number, 0.0) for number in range(len(weighed.faults))] + [0.0])
    return np.asarray(costs[weighed.members].sum(axis=1), dtype=np.float64)


def _act(parts: tuple[_Simple, ...], weighed: Weighed, prices: Prices, later: Floats) -> Act:
    mended = np.zeros(len(weighed.faults) + 1)
    mended[-1] = 1.0
    for each in parts:
        sure = 1.0 if each.action in (Action.REPLACE, Action.STOCK) else _TREATMENT_MENDS
        numbers = list(each.mended)
        mended[numbers] = np.maximum(mended[numbers], sure)
    fixed = mended[weighed.members].prod(axis=1)
    mends = float((fixed * weighed.posterior).sum())
    price, minutes = sum(each.price for each in parts), sum(each.minutes for each in parts)
    risk = float(((1.0 - fixed) * weighed.posterior * (prices.comeback + later)).sum())
    words = " and ".join(each.words for each in parts) or "nothing, keep watching"
    if not parts:
        minutes = prices.minutes.get("watch", 5.0)
    action = parts[0].action if parts else Action.NOTHING
    kinds = tuple(each.kind for each in parts if each.kind is not None)
    tags = tuple(each.tag for each in parts if each.tag)
    expected = price + prices.time_cost(minutes) + risk
    steps = tuple(ActStep(each.action.value, each.tag, each.kind, _needed((each,), weighed)) for each in parts)
    needed = _needed(parts, weighed)
    return Act(words, action.value, tags, kinds, price, minutes, mends, risk, expected, needed, steps)


def _needed(parts: tuple[_Simple, ...], weighed: Weighed) -> float:
    """Return how likely every step mends something that nothing smaller would: of no steps, that nothing is faulty."""
    if not parts:
        nobody = len(weighed.faults)
        return float(weighed.posterior[(weighed.members == nobody).all(axis=1)].sum())
    every = np.ones(len(weighed.hypotheses), dtype=np.bool_)
    for each in parts:
        mine = np.zeros(len(weighed.faults) + 1, dtype=np.bool_)
        mine[[number for number in each.mended if weighed.faults[number].mode.action is each.action]] = True
        every &= mine[weighed.members].any(axis=1)
    return float(weighed.posterior[every].sum())


def chance_of(weighed: Weighed, wanted: "set[int]") -> float:
    """Return the probability that one of some faults is there."""
    chosen = np.array([any(number in wanted for number in each) for each in weighed.hypotheses])
    return float(weighed.posterior[chosen].sum())


def faults_of(weighed: Weighed, tag: str) -> "set[int]":
    """Return the numbers of the faults of a part."""
    return {number for number, fault in enumerate(weighed.faults) if _is_of(fault, tag)}


def _is_of(fault: Fault, tag: str) -> bool:
    unnamed = not fault.tag and not fault.mode.harmless
    return fault.tag == tag or (unnamed and fault.mode.part.value == tag)
