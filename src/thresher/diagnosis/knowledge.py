"""The knowledge base: ways of being faulty, how they show, and how often (`thresher-knowledge/1`, TOML)."""

from dataclasses import dataclass, field
from enum import StrEnum
from importlib import resources

from thresher.model.errors import InputError, InputFault
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys

FORMAT = "thresher-knowledge/1"


class Spread(StrEnum):
    """How the places of a mode's findings are spread."""

    ONE_CORE = "one core"
    ONE_LANE = "one bit lane"
    ANYWHERE = "anywhere"


class Action(StrEnum):
    """What fixes a mode."""

    REPLACE = "replace"
    CLEAN = "clean"
    RESEAT = "reseat"
    STOCK = "back to stock"
    MOVE = "use another slot"
    LOOK = "look further"
    NOTHING = "nothing"


@dataclass(frozen=True, slots=True, kw_only=True)
class Mode:
    """One way of being faulty.

    `prior` is how common it is beside the others and beside nothing being faulty (`Weights`). Findings come at
    10**`rate` an hour (log-normal, `spread_decades` wide) at `reference_c` under a load of sensitivity 1, and e times
    as often for every `heat_k` kelvin more (0: heat does not matter). `shows` says in which share of findings it
    shows as what. `of_settings` goes when the part's settings are back to stock, `treatable` mostly when it is cleaned
    or reseated. `everyday` is how hard everyday use strains it, where that is not a share of the load that strains it
    most. `steady_words` is the share of its wrong memory words that are the same on every read, `steady_results` that
    of its wrong results that are wrong again when the beat is repeated, `same_words` that of wrong memory words that
    were wrong before. `checked` marks one that only component checks show: it counts once one of them has spoken, since
    few machines have what they test. `item` is what is replaced for it where that is not the whole part.
    `moves` is the kind of place that it is bound to ("memory slot"): it is there while something sits in that place.
    `no_start` is how likely such a fault keeps the machine from starting at all."""

    name: str
    part: PartKind
    title: str
    prior: float
    source: str
    rate: float
    spread_decades: float = 0.8
    heat_k: float = 0.0
    reference_c: float = 80.0
    places: Spread = Spread.ANYWHERE
    of_settings: bool = False
    treatable: bool = False
    everyday: float | None = None
    steady_words: float = 0.5
    steady_results: float = 0.5
    same_words: float = 0.01
    action: Action = Action.REPLACE
    checked: bool = False
    item: str = ""
    moves: str = ""
    no_start: float = 0.0
    next_step: str
    loads: dict[str, float]
    shows: dict[FindingKind, float]

    @property
    def harmless(self) -> bool:
        """Whether nothing is to be done about it: it explains findings, and the machine is healthy all the same."""
        return self.action is Action.NOTHING


@dataclass(frozen=True, slots=True, kw_only=True)
class Symptom:
    """What a customer says, in which group of such sayings, and by how much it changes the prior of modes."""

    text: str
    group: str
    factors: dict[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Thresholds:
    """From which probability a part is in doubt or to be replaced, and when it counts as cleared.

    An act is advised when each part that it buys is needed with `buy`, each treatment with `treat`; nothing is done
    any more when nothing is faulty with `sound`."""

    replace: float
    doubt: float
    cleared: float
    cleared_shown: float
    buy: float
    treat: float
    sound: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Weights:
    """How common things are beside the priors of the modes: that nothing is faulty, and two faults together.

    `together` multiplies the priors of two independent faults; it is below 1 since the priors count machines that come
    to a bench, of which few have two. `dirt` does so where one of them is dirt: that comes to machines whatever else
    they have.
    """

    nothing: float
    together: float
    dirt: float = 0.4


@dataclass(frozen=True, slots=True)
class Knowledge:
    """The whole knowledge base. `background` is findings per hour on a healthy machine under load.

    `jobs` is how many closed jobs of the shop have adjusted the priors.
    """

    modes: tuple[Mode, ...]
    background: dict[FindingKind, float]
    thresholds: Thresholds
    weights: Weights
    symptoms: tuple[Symptom, ...] = field(default=())
    jobs: int = 0

    def mode(self, name: str) -> Mode:
        """Return a mode by name. Raises KeyError."""
        return next(mode for mode in self.modes if mode.name == name)


def parse_knowledge(text: str, source: str) -> Knowledge:
    """Parse and check a knowledge base. Raises InputError with every fault."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    unknown_keys(data, {"format", "modes", "background", "thresholds", "weights", "symptoms"}, faults)
    modes = convert_list(data, "modes", Mode, faults)
    symptoms = convert_list(data, "symptoms", Symptom, faults)
    background = convert_section(data.get("background", {}), dict[FindingKind, float], "background", faults)
    thresholds = convert_section(data.get("thresholds", {}), Thresholds, "thresholds", faults)
    weights = convert_section(data.get("weights", {}), Weights, "weights", faults)
    if weights is not None and min(weights.nothing, weights.together, weights.dirt) <= 0:
        faults.append(InputFault("weights", "nothing, together and dirt must be above 0"))
    names = [mode.name for mode in modes]
    for mode in modes:
        faults += _faults_of_mode(mode)
        if names.count(mode.name) > 1:
            faults.append(InputFault(f"modes {mode.name}", "is given twice"))
    for symptom in symptoms:
        faults += [
            InputFault(f"symptoms {symptom.text!r}", f"there is no mode {name!r}")
            for name in symptom.factors
            if name not in names
        ]
    if background is not None:
        faults += [
            InputFault("background", f"no rate above 0 for {kind.value!r}")
            for kind in FindingKind
            if background.get(kind, 0.0) <= 0
        ]
    if faults or background is None or thresholds is None or weights is None:
        raise InputError(source, faults)
    return Knowledge(tuple(modes), background, thresholds, weights, tuple(symptoms))


def _faults_of_mode(mode: Mode) -> list[InputFault]:
    faults, where = [], f"modes {mode.name}"
    if abs(sum(mode.shows.values()) - 1.0) > 1e-6:
        faults.append(InputFault(f"{where} shows", f"shares add up to {sum(mode.shows.values()):g}, not 1"))
    if not 0.0 <= mode.no_start < 1.0:
        faults.append(InputFault(f"{where} no_start", f"expected 0 to below 1, found {mode.no_start:g}"))
    if mode.prior <= 0 or mode.spread_decades <= 0:
        faults.append(InputFault(where, "prior and spread_decades must be above 0"))
    if any(not 0.0 < share < 1.0 for share in (mode.steady_words, mode.steady_results, mode.same_words)):
        faults.append(InputFault(where, "steady_words, steady_results and same_words must be between 0 and 1"))
    return faults


def load_knowledge() -> Knowledge:
    """Return the knowledge base that comes with the program."""
    text = resources.files("thresher.diagnosis").joinpath("knowledge.toml").read_text(encoding="utf-8")
    return parse_knowledge(text, "knowledge.toml")
