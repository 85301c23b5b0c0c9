"""What to do: the act of least expected cost, from prices, bench time and the cost of a comeback.

An act fixes a fault when it replaces its part, cleans or reseats what such a fault comes from, or takes settings
back. The expected cost of an act is its price and time and, where it leaves a fault in, the cost of a comeback and of
the right repair then: a fault is not cheaper for being left alone.
"""

import re
from dataclasses import dataclass, field, replace
from importlib import resources
from itertools import combinations
from pathlib import Path

import numpy as np

from thresher.diagnosis.evidence import Floats
from thresher.diagnosis.faults import STILL_THERE, TREATED_FACTOR, Fault, acts_under
from thresher.diagnosis.inference import Posterior
from thresher.diagnosis.knowledge import Action, Thresholds
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.regular_file import is_there, read_text_file
from thresher.model.tomlfile import convert_section, parse_toml, unknown_keys
from thresher.model.trials import EMPTY_BOOK, Book, Configuration
from thresher.model.verdict import Act, ActStep

FORMAT = "thresher-prices/1"
_MOST_ACTS = 8
_MORNING = 5 * 60.0
"""A night ends at five."""
_PAIRED = 10
_WORTH_NAMING = 0.01
"""Acts that fix something less likely than this are not listed."""


@dataclass(frozen=True, slots=True)
class Prices:
    """What the shop charges and pays: money per hour of bench time, for a comeback, by part and item; minutes by act.

    `default` where the shop has not set its own. `closes` is when the bench is left in the evening, in minutes after
    midnight, None where nobody has said.
    """

    per_hour: float
    comeback: float
    parts: dict[PartKind, float]
    minutes: dict[str, float]
    default: bool = True
    items: dict[str, float] = field(default_factory=dict)
    closes: float | None = None

    def leaves_soon(self, minute: float) -> bool:
        """Whether the bench is left within the hour, or is left already, at so many minutes after midnight."""
        if self.closes is None:
            return False
        return not _MORNING <= minute < max(_MORNING, self.closes - 60.0)

    def time_cost(self, minutes: float) -> float:
        """Return what bench time costs."""
        return minutes / 60.0 * self.per_hour


def parse_prices(text: str, source: str, default: bool = False) -> Prices:
    """Parse a price list. Raises InputError with every fault."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    if "an_hour" in data:  # the name before version 0.2; price lists of shops still have it
        data["per_hour"] = data.pop("an_hour")
    unknown_keys(data, {"format", "per_hour", "comeback", "closes", "parts", "items", "minutes"}, faults)
    closes = _time_of_day(data.get("closes"), faults)
    per_hour = convert_section(data.get("per_hour"), float, "per_hour", faults)
    comeback = convert_section(data.get("comeback"), float, "comeback", faults)
    parts = convert_section(data.get("parts", {}), dict[PartKind, float], "parts", faults)
    items = convert_section(data.get("items", {}), dict[str, float], "items", faults) or {}
    minutes = convert_section(data.get("minutes", {}), dict[str, float], "minutes", faults)
    for name, values in (("parts", parts), ("items", items), ("minutes", minutes)):
        for key, value in (values or {}).items():
            if value < 0:
                faults.append(InputFault(f"{name} {key}", f"expected 0 or more, found {value:g}"))
    for name, money in (("per_hour", per_hour), ("comeback", comeback)):
        if money is not None and money < 0:
            faults.append(InputFault(name, f"expected 0 or more, found {money:g}"))
    if faults or per_hour is None or comeback is None or parts is None or minutes is None:
        raise InputError(source, faults)
    return Prices(per_hour, comeback, parts, minutes, default, items, closes)


def _time_of_day(value: object, faults: list[InputFault]) -> float | None:
    """Return minutes after midnight of a time such as "17:30", None where there is none."""
    if value is None:
        return None
    found = re.fullmatch(r"([01]?\d|2[0-3]):([0-5]\d)", value) if isinstance(value, str) else None
    if found is None:
        faults.append(InputFault("closes", f'expected a time such as "17:30", found {value!r}'))
        return None
    return int(found[1]) * 60.0 + int(found[2])


def default_price_list() -> str:
    """Return the text of the price list that comes with the program, for a shop to begin its own with."""
    return resources.files("thresher.diagnosis").joinpath("prices.toml").read_text(encoding="utf-8")


def load_prices() -> Prices:
    """Return the prices that come with the program."""
    return parse_prices(default_price_list(), "prices.toml", default=True)


def read_prices(path: Path) -> Prices:
    """Return a shop's own prices, the defaults where it has no list. Raises InputError."""
    return parse_prices(read_text_file(path), str(path)) if is_there(path) else load_prices()


@dataclass(frozen=True, slots=True)
class _Simple:
    words: str
    action: Action
    tag: str
    kind: PartKind | None
    price: float
    minutes: float
    fixed: frozenset[int] = field(default=frozenset())


def decide(posterior: Posterior, prices: Prices, limits: Thresholds, book: Book = EMPTY_BOOK) -> tuple[Act, ...]:
    """Return what may be done by expected cost: at most some eight acts, the sound ones among them in any case.

    Faults of parts that are not in the machine as it is to be handed back so far (`Book.base`), or that were treated,
    are none to be fixed, and nothing is done to parts that are not in it or that are the shop's.
    """
    posterior = left_in(posterior, book.base)
    every = _simple_acts(posterior, prices, book)
    later = _repairs(every, posterior, prices)
    simple = [each for each in every if _share_mended(each, posterior) >= _WORTH_NAMING]
    acts = [_act((), posterior, prices, later)]
    alone = [(each, _act((each,), posterior, prices, later)) for each in simple]
    acts += [act for _, act in alone]
    # two together are worth looking at where each does something by itself
    promising = [each for each, _ in sorted(alone, key=lambda pair: -_share_mended(pair[0], posterior))[:_PAIRED]]
    acts += [_act(pair, posterior, prices, later) for pair in combinations(promising, 2) if _differ(*pair)]

    def by_cost(act: Act) -> tuple[float, float, int]:
        return act.expected, act.price, len(act.tags)

    # what is sure to be needed is listed even where something unsure would cost less
    chosen = sorted(acts, key=lambda act: (not is_sound(act, limits), *by_cost(act)))[:_MOST_ACTS]
    return tuple(sorted(chosen, key=by_cost))


def is_sound(act: Act, limits: Thresholds) -> bool:
    """Return whether an act may be done by now: no unnecessary parts, no treatment on a mere guess."""
    if not act.steps:
        return act.needed >= limits.sound
    return all(step.needed >= (limits.buy if step.action == Action.REPLACE else limits.treat) for step in act.steps)


def _share_mended(act: _Simple, posterior: Posterior) -> float:
    """Return how likely an act fixes something, whatever else is left."""
    mine = np.zeros(len(posterior.faults) + 1)
    mine[list(act.fixed)] = 1.0
    return float((mine[posterior.members].max(axis=1) * posterior.posterior).sum())


def _differ(one: _Simple, other: _Simple) -> bool:
    """Whether two acts add up to something: none contains what the other fixes."""
    return not (one.fixed <= other.fixed or other.fixed <= one.fixed)


def _treatments(posterior: Posterior, prices: Prices, mine: set[int]) -> list[_Simple]:
    """Return what is cleaned or reseated: all parts of a kind together, since that is how it is done."""
    acts = []
    for action in (Action.CLEAN, Action.RESEAT):
        # what a treatment has not fixed is not treated again
        kinds = {
            posterior.faults[number].mode.part
            for number in mine
            if posterior.faults[number].mode.action is action and not posterior.faults[number].treatment_failed
        }
        for kind in sorted(kinds):
            mended = {
                n
                for n in mine
                if posterior.faults[n].mode.action is action
                and posterior.faults[n].mode.part is kind
                and not posterior.faults[n].treatment_failed
            }
            minutes = prices.minutes.get(action.value, 15.0)
            words = _TREATMENT_WORDS.get((action, kind), f"{action.value} the {kind.value}")
            acts.append(_Simple(words, action, kind.value, kind, 0.0, minutes, frozenset(mended)))
    return acts


_TREATMENT_WORDS = {
    (Action.RESEAT, PartKind.DRIVE): "change the drive cable",
    (Action.RESEAT, PartKind.BOARD): "reseat cards, change ports",
    (Action.RESEAT, PartKind.DISPLAY): "change the display cable",
    (Action.RESEAT, PartKind.POWER): "reseat the power plugs, other cable",
    (Action.CLEAN, PartKind.GRAPHICS): "clean the graphics card",
}
"""Where "clean the …" and "reseat the …" is not what is done."""

_ITEM_PRICE, _ITEM_MINUTES = 25.0, 15.0
"""Of an item that the price list does not have."""
_MOVE_MINUTES = 5.0
_SEARCH_MINUTES = 60.0
"""Bench time to be reckoned with for a fault that is not among the suspects."""


def left_in(posterior: Posterior, base: Configuration | None) -> Posterior:
    """Return the same with hypotheses cut down to the faults that the machine would be handed back with."""
    healthy = len(posterior.faults)
    gone = np.array(
        [*(fault.mode.harmless or acts_under(fault, base) < STILL_THERE for fault in posterior.faults), True]
    )
    return replace(posterior, members=np.where(gone[posterior.members], healthy, posterior.members))


def _simple_acts(posterior: Posterior, prices: Prices, book: Book) -> list[_Simple]:
    base = book.base
    ours = {part.tag for part in book.parts if part.known_good}
    mine = [
        (n, fault)
        for n, fault in enumerate(posterior.faults)
        if not fault.mode.harmless and fault.mode.action is not Action.LOOK
    ]
    in_it = [(n, fault) for n, fault in mine if base is None or fault.needs in ("", *base.tags)]
    of_parts = [
        (n, fault)
        for n, fault in in_it
        if not (fault.mode.item or fault.mode.moves or fault.mode.of_settings) and fault.tag not in ours
    ]
    places = [(n, fault) for n, fault in in_it if fault.mode.moves]
    items = [(n, fault) for n, fault in mine if fault.mode.item]
    acts = _replacements(of_parts + [(n, replace(fault, tag=fault.needs)) for n, fault in places], prices)
    acts += _of_items(items, prices) + _moves(places, prices)
    acts += _treatments(posterior, prices, {number for number, _ in of_parts})
    settings = frozenset(n for n, fault in mine if fault.mode.of_settings)
    if base is not None and all(acts_under(posterior.faults[n], base) < STILL_THERE for n in settings):
        settings = frozenset()
    if settings:
        minutes = prices.minutes.get(Action.STOCK.value, 8.0)
        acts.append(_Simple("back to stock settings", Action.STOCK, "", None, 0.0, minutes, settings))
    return acts


Numbered = list[tuple[int, Fault]]
"""Faults with their numbers."""


def _replacements(faults: Numbered, prices: Prices) -> list[_Simple]:
    """Return the replacement of each part; that of a board takes its slots with it."""
    by_part: dict[tuple[str, PartKind], set[int]] = {}
    for number, fault in faults:
        by_part.setdefault((fault.tag, fault.mode.part), set()).add(number)
    acts = []
    for (tag, kind), numbers in by_part.items():
        minutes, price = prices.minutes.get(f"replace {kind.value}", 30.0), prices.parts.get(kind, 0.0)
        words = f"replace {tag or kind.word}"
        acts.append(_Simple(words, Action.REPLACE, tag or kind.value, kind, price, minutes, frozenset(numbers)))
    return acts


def _of_items(faults: Numbered, prices: Prices) -> list[_Simple]:
    """Return the replacement of each item that is no whole part."""
    by_item: dict[tuple[str, PartKind], set[int]] = {}
    for number, fault in faults:
        by_item.setdefault((fault.mode.item, fault.mode.part), set()).add(number)
    acts = []
    for (item, kind), numbers in by_item.items():
        minutes, price = prices.minutes.get(f"replace {item}", _ITEM_MINUTES), prices.items.get(item, _ITEM_PRICE)
        acts.append(_Simple(f"replace the {item}", Action.REPLACE, item, kind, price, minutes, frozenset(numbers)))
    return acts


def _moves(faults: Numbered, prices: Prices) -> list[_Simple]:
    """Return for each place that may be faulty that what sits in it moves to another."""
    by_place: dict[tuple[str, str], set[int]] = {}
    for number, fault in faults:
        by_place.setdefault((fault.place, fault.mode.moves), set()).add(number)
    acts = []
    for (place, moves), numbers in by_place.items():
        minutes = prices.minutes.get(Action.MOVE.value, _MOVE_MINUTES)
        words = f"use a {moves} other than {place}" if place else f"use another {moves}"
        acts.append(_Simple(words, Action.MOVE, place or moves, PartKind.BOARD, 0.0, minutes, frozenset(numbers)))
    return acts


def _repairs(simple: list[_Simple], posterior: Posterior, prices: Prices) -> Floats:
    """Return for each hypothesis what its repair costs when it is known: the cheapest act for each of its faults.

    One act that fixes both is paid once.
    """
    many = len(posterior.faults)
    cheapest = np.zeros(many + 1)
    by = np.full(many + 1, -1, dtype=np.intp)
    for number, fault in enumerate(posterior.faults):
        cheapest[number] = prices.time_cost(_SEARCH_MINUTES) if fault.mode.action is Action.LOOK else 0.0
    for number, each in enumerate(simple):
        cost = each.price + prices.time_cost(each.minutes)
        for fixed in each.fixed:
            if by[fixed] < 0 or cost < cheapest[fixed]:
                cheapest[fixed], by[fixed] = cost, number
    one, other = posterior.members[:, 0], posterior.members[:, 1]
    same = (by[one] == by[other]) & (by[one] >= 0)
    return np.asarray(cheapest[one] + np.where(same, 0.0, cheapest[other]))


def _act(parts: tuple[_Simple, ...], posterior: Posterior, prices: Prices, later: Floats) -> Act:
    mended = np.zeros(len(posterior.faults) + 1)
    mended[-1] = 1.0
    for each in parts:
        sure = 1.0 - TREATED_FACTOR if each.action in (Action.CLEAN, Action.RESEAT) else 1.0
        numbers = list(each.fixed)
        mended[numbers] = np.maximum(mended[numbers], sure)
    fixed = mended[posterior.members].prod(axis=1)
    fix_chance = float((fixed * posterior.posterior).sum())
    price, minutes = sum(each.price for each in parts), sum(each.minutes for each in parts)
    risk = float(((1.0 - fixed) * posterior.posterior * (prices.comeback + later)).sum())
    words = " and ".join(each.words for each in parts) or "nothing, keep watching"
    if not parts:
        minutes = prices.minutes.get("watch", 5.0)
    action = parts[0].action if parts else Action.NOTHING
    kinds = tuple(each.kind for each in parts if each.kind is not None)
    tags = tuple(each.tag for each in parts if each.tag)
    expected = price + prices.time_cost(minutes) + risk
    steps = tuple(ActStep(each.action.value, each.tag, each.kind, _needed((each,), posterior)) for each in parts)
    needed = _needed(parts, posterior)
    return Act(words, action.value, tags, kinds, price, minutes, fix_chance, risk, expected, needed, steps)


def _needed(parts: tuple[_Simple, ...], posterior: Posterior) -> float:
    """Return how likely every step fixes something that nothing smaller would: of no steps, that nothing is faulty."""
    if not parts:
        healthy = len(posterior.faults)
        return float(posterior.posterior[(posterior.members == healthy).all(axis=1)].sum())
    every = np.ones(len(posterior.hypotheses), dtype=np.bool_)
    for each in parts:
        mine = np.zeros(len(posterior.faults) + 1, dtype=np.bool_)
        mine[[number for number in each.fixed if _remedy(posterior.faults[number]) is each.action]] = True
        every &= mine[posterior.members].any(axis=1)
    return float(posterior.posterior[every].sum())


def _remedy(fault: Fault) -> Action:
    """Return what fixes a fault: replacing the part where cleaning or reseating has failed."""
    return Action.REPLACE if fault.treatment_failed else fault.mode.action


def chance_of(posterior: Posterior, wanted: "set[int]") -> float:
    """Return the probability that one of some faults is there."""
    chosen = np.array([any(number in wanted for number in each) for each in posterior.hypotheses])
    return float(posterior.posterior[chosen].sum())


def faults_of(posterior: Posterior, tag: str) -> "set[int]":
    """Return the numbers of the faults of a part."""
    return {number for number, fault in enumerate(posterior.faults) if _is_of(fault, tag)}


def _is_of(fault: Fault, tag: str) -> bool:
    unnamed = not fault.tag and not fault.mode.harmless
    return fault.tag == tag or (unnamed and fault.mode.part.value == tag)
