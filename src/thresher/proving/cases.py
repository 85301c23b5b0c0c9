"""Drawing cases: a machine of made-up parts, its faults, what its owner reports, and what is on the shelf."""

from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from thresher.diagnosis.knowledge import Action
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.trials import ANOTHER_SLOT, INSTALLED_SYSTEM, BookPart, Configuration
from thresher.proving.fault_catalogue import (
    CHECKED_CATALOGUE,
    COMPLAINTS_OF_HEALTHY,
    CRASHING_CATALOGUE,
    FAULT_CATALOGUE,
    ITEMS,
    LINKS_OF_SATA,
    OF_CARDS,
    OF_CHECKS,
    OF_CRASHES,
    OF_DRIVES,
    STRAY_SAYING,
    WITH_A_CARD,
    CatalogueFault,
)
from thresher.proving.policy_names import RuleSet
from thresher.proving.rules import Rules, rules_named
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import (
    BatterySpec,
    BoardSpec,
    DisplaySpec,
    DriveSpec,
    FittingsSpec,
    GraphicsSpec,
    InterfaceSpec,
    ModuleSpec,
    ProcessorSpec,
    Scenario,
)


class Sort(StrEnum):
    """What sort of case it is. A misleading one is sound or has one fault, and something beside it that looks ill."""

    SINGLE = "single fault"
    DOUBLE = "two faults"
    SOUND = "sound"
    MISLEADING = "misleading"


_SHELF = {
    PartKind.MEMORY: 0.95,
    PartKind.POWER: 0.9,
    PartKind.PROCESSOR: 0.75,
    PartKind.BOARD: 0.7,
    PartKind.GRAPHICS: 0.85,
    PartKind.DRIVE: 0.9,
    PartKind.COOLING: 0.7,
    PartKind.DISPLAY: 0.9,
}
_FILE_SYSTEM_MISLEADS = 0.25
_SATA = 0.5
_LOG_KEPT = 0.6
_SYSTEM_CRASHES = 0.7
"""Share of the sound machines among those that crash whose installed system does it."""
_FREE_SLOTS = ("A2", "B2", "A1", "B1")
_TOWER_W_PER_K = 5.6
_CARD = GraphicsSpec(name="Lumen L40", memory_gib=8)
_MADE_UP = "Quayside Boards"

OWN_TAGS = {
    PartKind.PROCESSOR: "P1",
    PartKind.BOARD: "B1",
    PartKind.POWER: "S1",
    PartKind.COOLING: "C1",
    PartKind.GRAPHICS: "G1",
    PartKind.DRIVE: "D1",
    PartKind.DISPLAY: "V1",
}
NOTEBOOK_TAGS = {PartKind.BATTERY: "A1", PartKind.NETWORK: "N1", PartKind.SOUND: "U1"}
"""Parts of the machines that are drawn with what only checks find."""
_CATALOGUE = (*FAULT_CATALOGUE, *CHECKED_CATALOGUE, *CRASHING_CATALOGUE)
_WITH_A_CARD = (PartKind.GRAPHICS, PartKind.DISPLAY)
SETTINGS = "settings"
DRIVE_PORT = "drive port"


@dataclass(frozen=True, slots=True)
class Trouble:
    """A fault in a part: the tag of the part, `SETTINGS` for one of settings, and what fixes it."""

    fault: Fault
    tag: str
    kind: PartKind
    remedy: Action


@dataclass(frozen=True, slots=True)
class Case:
    """One job: the machine without faults, its faults, its parts, the shelf's, what is reported, hours in its log.

    Its faults differ by `wander` decades from run to run; a run is ended after `enough` findings."""

    number: int
    seed: int
    sort: Sort
    machine: Scenario
    own: tuple[BookPart, ...]
    shelf: tuple[BookPart, ...]
    places: tuple[tuple[str, str], ...]
    troubles: tuple[Trouble, ...]
    misleads: tuple[Fault, ...]
    symptoms: tuple[str, ...]
    log_hours: float
    wander: float = 0.0
    enough: int = 3

    @property
    def own_troubles(self) -> tuple[Trouble, ...]:
        """What is wrong with the machine itself, and not a part on the shelf."""
        mine = {part.tag for part in self.own} | {SETTINGS} | ITEMS
        return tuple(each for each in self.troubles if each.tag in mine or each.remedy is Action.MOVE)

    @property
    def first_configuration(self) -> Configuration:
        """The machine as it came in."""
        return Configuration(tuple(part.tag for part in self.own), self.places)


def draw_case(
    seed: int, number: int, attempt: int = 0, only: tuple[FaultKind, ...] = (), rule_set: RuleSet = RuleSet.OWN
) -> Case:
    """Draw a case; the same seed, number and attempt give the same one, whatever was drawn before.

    Attempts at one number are of the same sort. `only` draws no other faults than these.
    """
    rules = rules_named(rule_set)
    shares = _shifted_shares(np.random.default_rng([seed, 0]), rules)
    wanted = only or tuple(each.kind for each in FAULT_CATALOGUE)
    shares = {kind: share if kind in wanted else 0.0 for kind, share in shares.items()}
    chances = [rules.one, rules.two, rules.sound, rules.misleading]
    sort = Sort(np.random.default_rng([seed, 1, number]).choice([each.value for each in Sort], p=chances))
    rng = np.random.default_rng([seed, 2, number, attempt])
    machine = _machine(rng, number, seed, rules)
    if only in (OF_CARDS, OF_CHECKS) and not machine.graphics:
        machine = replace(machine, graphics=(_CARD,))
    if only == OF_CHECKS:
        machine = _with_fittings(machine)
    places = tuple((module.slot, f"M{count + 1}") for count, module in enumerate(machine.modules))
    own = tuple(BookPart(tag, kind) for kind, tag in OWN_TAGS.items() if kind not in _WITH_A_CARD or machine.graphics)
    own += tuple(BookPart(tag, PartKind.MEMORY) for _, tag in places)
    if only == OF_CHECKS:
        own += tuple(BookPart(tag, kind) for kind, tag in NOTEBOOK_TAGS.items())
    shelf = tuple(
        BookPart(f"K{count + 1}", kind, known_good=True)
        for count, (kind, chance) in enumerate(_SHELF.items())
        if rng.random() < chance and any(part.kind is kind for part in own)
    )
    many = {Sort.SINGLE: 1, Sort.DOUBLE: 2, Sort.SOUND: 0, Sort.MISLEADING: int(rng.random() < 0.5)}[sort]
    possible = _possible(shares, own, machine)
    troubles = _troubles(rng, many, possible, own, machine, rules)
    symptoms = _sayings(rng, troubles, possible, rules)
    troubles += _bad_on_shelf(rng, shelf, shares, machine, rules)
    misleads = _misleads(rng, only == OF_DRIVES) if sort is Sort.MISLEADING else ()
    crashes_by_itself = _SYSTEM_CRASHES if only == OF_CRASHES else rules.crashing_system
    if crashes_by_itself and not troubles and rng.random() < crashes_by_itself:
        misleads = (Fault(kind=FaultKind.CRASHING_SYSTEM, strength=float(10.0 ** rng.uniform(-1.0, 0.5))),)
    hours = float(rng.uniform(1.0, 40.0)) if rng.random() < _LOG_KEPT else 0.0
    enough = int(rng.choice(rules.kept_going)) if len(rules.kept_going) > 1 else rules.kept_going[0]
    return Case(
        number, seed, sort, machine, own, shelf, places, troubles, misleads, symptoms, hours, rules.wander, enough
    )


def _shifted_shares(rng: np.random.Generator, rules: Rules) -> dict[FaultKind, float]:
    found: dict[FaultKind, float] = {}
    for catalogue in (FAULT_CATALOGUE, CHECKED_CATALOGUE, CRASHING_CATALOGUE):
        shifts = 10.0 ** (rules.shifted * rng.standard_normal(len(catalogue)))
        for each, shift in zip(catalogue, shifts, strict=True):
            found[each.kind] = rules.more_shares.get(each.kind, each.share) * shift
    return found


def _machine(rng: np.random.Generator, number: int, seed: int, rules: Rules) -> Scenario:
    cores = int(rng.choice([2, 4, 6, 8]))
    base = int(rng.integers(30, 43)) * 100
    processor = ProcessorSpec(
        name=f"Tern {cores}-{base // 10}",
        cores=cores,
        threads_per_core=int(rng.integers(1, 3)),
        base_mhz=base,
        all_core_mhz=base + 400,
        boost_mhz=base + 900,
        limit_c=float(rng.choice([95.0, 100.0])),
        power_limit_w=float(rng.integers(10, 17) * cores + 10),
    )
    # coolers are bought to fit: they leave the heatsink so much warmer than the air at full load
    cooler_share = 0.8 * processor.power_limit_w / _TOWER_W_PER_K / float(rng.uniform(*rules.rise_k))
    slots = ("A2", "B2") if rng.random() < 0.75 else ("A2",)
    size = int(rng.choice([4, 8, 16]))
    modules = tuple(
        ModuleSpec(
            slot=slot,
            maker="Mussel Bank",
            part_number=f"MB-{size}D5-5200",
            size_gib=size,
            rated_mts=5200,
            configured_mts=5200,
            serial=f"5D{number:06d}{count}",
        )
        for count, slot in enumerate(slots)
    )
    board = BoardSpec(
        maker=_MADE_UP,
        name="QB-50 Fender",
        firmware_maker=_MADE_UP,
        firmware_version="D2",
        firmware_date="08/14/2024",
        slots=("A1", "A2", "B1", "B2"),
        serial=f"QB50-{number:06d}",
    )
    drive = DriveSpec(name="nvme0n1", model="Slipway N2 500GB", serial="SL2K", firmware="1C2", size_bytes=500107862016)
    if np.random.default_rng([seed, 5, number]).random() < _SATA:
        drive = DriveSpec(
            name="sda", model="Tidewater T2 1TB", serial="TW2K", firmware="0007", size_bytes=10**12, rotation=7200
        )
    graphics = (_CARD,) if rng.random() < 0.6 else ()
    return Scenario(
        title=f"Case {number}",
        machine=f"Case {number}",
        seed=seed * 100_000 + number,
        speed=1.0,
        ambient_c=float(rng.uniform(*rules.room_c)),
        start="2026-03-18T09:00:00+01:00",
        processor=processor,
        board=board,
        modules=modules,
        drives=(drive,),
        graphics=graphics,
        faults=(),
        supply="Brackwater 450",
        cooler="Skerry S2",
        symptoms=(),
        job="",
        interleaved=bool(rng.random() < 0.6),
        cooler_share=cooler_share,
    )


def _with_fittings(machine: Scenario) -> Scenario:
    """Return a machine with everything that component checks look at, and a person at it."""
    return replace(
        machine,
        batteries=(BatterySpec(name="BAT0", maker="Brackwater", model="BW-54", design_wh=54.0, charge=0.4),),
        adapter_w=machine.processor.power_limit_w + 80.0,
        interfaces=(
            InterfaceSpec(name="enp1s0", address="192.168.7.43"),
            InterfaceSpec(name="wlp2s0", wireless=True, address="192.168.7.44"),
        ),
        driven_fans=True,
        displays=(DisplaySpec(connector="eDP-1", name="Skerry 14"),),
        fittings=FittingsSpec(
            built_in=tuple(BuiltInKind),
            sound_outputs=("Speakers",),
            sound_inputs=("Microphone",),
            usb_ports=3,
            person=True,
        ),
    )


Possible = list[tuple[CatalogueFault, float]]
"""Faults that a machine can have, each with its share."""


def _possible(shares: dict[FaultKind, float], own: tuple[BookPart, ...], machine: Scenario) -> Possible:
    kinds = {part.kind for part in own}
    sata = any(drive.name.startswith("sd") for drive in machine.drives)
    return [
        (each, shares[each.kind])
        for each in _CATALOGUE
        if each.part in kinds and shares[each.kind] > 0 and (sata or each.kind not in LINKS_OF_SATA)
        if machine.graphics or each.kind not in WITH_A_CARD
    ]


def _drawn(rng: np.random.Generator, many: int, possible: Possible) -> list[CatalogueFault]:
    weights = np.array([share for _, share in possible])
    drawn = rng.choice(len(possible), size=many, replace=False, p=weights / weights.sum())
    return [possible[int(each)][0] for each in drawn]


def _troubles(
    rng: np.random.Generator,
    many: int,
    possible: Possible,
    own: tuple[BookPart, ...],
    machine: Scenario,
    rules: Rules,
) -> tuple[Trouble, ...]:
    return tuple(_trouble(rng, each, own, machine, rules) for each in _drawn(rng, many, possible))


def _trouble(
    rng: np.random.Generator,
    drawn_fault: CatalogueFault,
    own: tuple[BookPart, ...],
    machine: Scenario,
    rules: Rules,
) -> Trouble:
    choices = drawn_fault.choices
    strength = float(rng.choice(choices)) if choices else _strength(rng, drawn_fault, rules)
    module = int(rng.integers(0, len(machine.modules)))
    fault = Fault(
        kind=drawn_fault.kind,
        strength=strength,
        core=int(rng.integers(0, machine.processor.cores)),
        slot=machine.modules[module].slot,
        at=float(rng.uniform(0.02, 0.98)),
        bit=int(rng.integers(0, 64)),
    )
    fault = _comes_and_goes(rng, fault, rules)
    if drawn_fault.remedy is Action.MOVE:
        place = fault.slot if fault.kind is FaultKind.BAD_SLOT else DRIVE_PORT
        return Trouble(fault, place, drawn_fault.part, drawn_fault.remedy)
    if drawn_fault.item:
        return Trouble(fault, drawn_fault.item, drawn_fault.part, drawn_fault.remedy)
    if drawn_fault.settings:
        return Trouble(fault, SETTINGS, drawn_fault.part, drawn_fault.remedy)
    tags = [part.tag for part in own if part.kind is drawn_fault.part]
    tag = tags[module] if drawn_fault.part is PartKind.MEMORY and len(tags) > 1 else tags[0]
    return Trouble(fault, tag, drawn_fault.part, drawn_fault.remedy)


_OF_A_SHARE = (FaultKind.CLOGGED_HEATSINK, FaultKind.DRY_PASTE, FaultKind.CARD_COOLER, FaultKind.OVERHEATS)
_RATES = (
    FaultKind.WEAK_CORE,
    FaultKind.WEAK_VECTOR_UNIT,
    FaultKind.CACHE_BIT,
    FaultKind.COHERENCE,
    FaultKind.CORE_HANGS,
    FaultKind.MEMORY_CONTROLLER,
    FaultKind.MEMORY_TIMING,
    FaultKind.MEMORY_PATH,
    FaultKind.BAD_SLOT,
    FaultKind.SLOT_CONTACT,
    FaultKind.RESETS,
    FaultKind.SLOT_LINK,
    FaultKind.DRIVE_CABLE,
    FaultKind.DRIVE_PORT,
    FaultKind.DRIVE_ELECTRONICS,
    FaultKind.DRIVE_SURFACE,
)
"""Faults whose strength is a rate, which can come and go."""


def _strength(rng: np.random.Generator, drawn: CatalogueFault, rules: Rules) -> float:
    low, high = np.log(drawn.low), np.log(drawn.high)
    if drawn.kind not in _OF_A_SHARE:
        wider = (rules.stretched - 1.0) * (high - low) / 2.0
        low, high = low - wider, high + wider
    return float(np.exp(rng.uniform(low, high)))


def _comes_and_goes(rng: np.random.Generator, fault: Fault, rules: Rules) -> Fault:
    """Return the fault as it lives: in spells, growing or fading, where the rules have that."""
    if fault.kind not in _RATES or not (rules.spells or rules.drifts):
        return fault
    spell_s = float(np.exp(rng.uniform(np.log(120.0), np.log(3600.0)))) if rng.random() < rules.spells else 0.0
    drift = float(rng.uniform(-rules.drift, rules.drift)) if rng.random() < rules.drifts else 0.0
    return replace(fault, spell_s=spell_s, drift=drift)


def _bad_on_shelf(
    rng: np.random.Generator,
    shelf: tuple[BookPart, ...],
    shares: dict[FaultKind, float],
    machine: Scenario,
    rules: Rules,
) -> tuple[Trouble, ...]:
    """Return what is wrong with known-good parts that are none."""
    bad = []
    sata = any(drive.name.startswith("sd") for drive in machine.drives)
    for part in shelf:
        possible = [
            each
            for each in FAULT_CATALOGUE
            if each.part is part.kind and not each.settings and not each.item and shares[each.kind] > 0
            if each.remedy is not Action.MOVE
            if sata or each.kind not in LINKS_OF_SATA
        ]
        if possible and rng.random() < rules.bad_shop:
            weights = np.array([shares[each.kind] for each in possible])
            drawn_fault = possible[int(rng.choice(len(possible), p=weights / weights.sum()))]
            bad.append(replace(_trouble(rng, drawn_fault, (part,), machine, rules), tag=part.tag))
    return tuple(bad)


def _misleads(rng: np.random.Generator, of_drives: bool) -> tuple[Fault, ...]:
    if of_drives or rng.random() < _FILE_SYSTEM_MISLEADS:
        return (Fault(kind=FaultKind.FILE_SYSTEM, strength=float(np.exp(rng.uniform(np.log(0.3), np.log(10.0))))),)
    strays = Fault(kind=FaultKind.STRAY_ERRORS, strength=float(10.0 ** rng.uniform(-1.5, -0.3)))
    wrong_sensor = Fault(
        kind=FaultKind.CHANNEL_OFFSET, path="/sys/class/hwmon/hwmon1/temp2_input", strength=float(rng.uniform(8e3, 2e4))
    )
    return (strays,) if rng.random() < 0.6 else (wrong_sensor,) if rng.random() < 0.5 else (strays, wrong_sensor)


def _sayings(
    rng: np.random.Generator, troubles: tuple[Trouble, ...], possible: Possible, rules: Rules
) -> tuple[str, ...]:
    by_kind = {each.kind: each.symptoms for each in _CATALOGUE}
    kinds = [trouble.fault.kind for trouble in troubles]
    if rules.silent and rng.random() < rules.silent:
        return ()
    if rules.mistaken and kinds and rng.random() < rules.mistaken:
        kinds = [each.kind for each in _drawn(rng, len(kinds), possible)]
    words: list[str] = []
    for kind in kinds:
        words += [text for text, chance in by_kind[kind].items() if rng.random() < chance]
    if not troubles:
        words += [text for text, chance in COMPLAINTS_OF_HEALTHY.items() if rng.random() < chance]
    words += [text for text in COMPLAINTS_OF_HEALTHY if rng.random() < STRAY_SAYING]
    return tuple(dict.fromkeys(words))


def scenario_under(case: Case, configuration: Configuration, run: int) -> Scenario:
    """Return the simulated machine of a case under a configuration, with chance of its own for each run."""
    slots = _slots_under(case, configuration)
    chance = np.random.default_rng([case.seed, 6, case.number, run])
    faults = [_wandering(chance, case, _placed(each, slots)) for each in case.troubles if _acts(each, configuration)]
    own = {tag: module for (_, tag), module in zip(case.places, case.machine.modules, strict=True)}
    modules = [replace(own.get(tag, case.machine.modules[0]), slot=slot) for tag, slot in slots.items()]
    modules.sort(key=lambda module: module.slot)
    seed = (case.machine.seed * 1009 + run) % (1 << 44)
    stick = INSTALLED_SYSTEM in configuration.treated
    misleads = (each for each in case.misleads if not (stick and each.kind is FaultKind.CRASHING_SYSTEM))
    return replace(case.machine, seed=seed, modules=tuple(modules), faults=(*faults, *misleads))


def troubles_left(case: Case, configuration: Configuration) -> tuple[Trouble, ...]:
    """Return what is still wrong with the machine as it is in a configuration."""
    return tuple(each for each in case.troubles if _acts(each, configuration))


def _acts(trouble: Trouble, configuration: Configuration) -> bool:
    if trouble.tag == SETTINGS:  # settings are those of the machine's own board
        return trouble.kind not in configuration.stock and OWN_TAGS[PartKind.BOARD] in configuration.tags
    if trouble.tag in ITEMS:
        return trouble.tag not in configuration.treated
    if trouble.remedy is Action.MOVE:  # a place of the machine's own board: it does no harm while it is empty
        if OWN_TAGS[PartKind.BOARD] not in configuration.tags:
            return False
        in_use = any(place == trouble.tag for place, _ in configuration.places)
        return in_use if trouble.fault.kind is FaultKind.BAD_SLOT else trouble.tag not in configuration.treated
    treated = trouble.remedy in (Action.CLEAN, Action.RESEAT) and configuration.is_treated(trouble.tag, trouble.kind)
    return trouble.tag in configuration.tags and not treated


def _wandering(rng: np.random.Generator, case: Case, fault: Fault) -> Fault:
    """Return the fault as strong as it is in this run."""
    if not case.wander or fault.kind not in _RATES:
        return fault
    return replace(fault, strength=fault.strength * float(10.0 ** (case.wander * rng.standard_normal())))


def _placed(trouble: Trouble, slots: dict[str, str]) -> Fault:
    """Return the fault with the slot that its module sits in now."""
    return replace(trouble.fault, slot=slots[trouble.tag]) if trouble.tag in slots else trouble.fault


def _slots_under(case: Case, configuration: Configuration) -> dict[str, str]:
    """Return the slot of each installed module; one whose place is not known sits in the first that is free."""
    modules = {part.tag for part in (*case.own, *case.shelf) if part.kind is PartKind.MEMORY}
    slots = {tag: place for place, tag in configuration.places if tag in modules and tag in configuration.tags}
    used = {place for place, _ in case.places}
    for tag in [tag for tag, place in slots.items() if place == ANOTHER_SLOT]:
        free = [slot for slot in _FREE_SLOTS if slot not in used and slot not in slots.values()]
        slots[tag] = free[0] if free else next(slot for slot in _FREE_SLOTS if slot not in slots.values())
    for tag in configuration.tags:
        if tag in modules and tag not in slots:
            slots[tag] = next(slot for slot in _FREE_SLOTS if slot not in slots.values())
    return slots
