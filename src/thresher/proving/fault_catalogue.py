"""What can be wrong with a drawn machine: how common, how strong, what its owner says, and what fixes it.

Shares, strengths and sayings are the makers' judgement, written down apart from the knowledge base of the diagnosis:
for every set of cases they are shifted by chance, so that the diagnosis never reckons with quite the right ones.
"""

from dataclasses import dataclass, field

from thresher.diagnosis.knowledge import Action
from thresher.model.parts import PartKind
from thresher.simulator.fault_kinds import FaultKind

K, P, A = FaultKind, PartKind, Action


@dataclass(frozen=True, slots=True)
class CatalogueFault:
    """One fault that a machine may have.

    `share` is how common it is beside the others. Strengths (`STRENGTH_MEANS` of the simulated machines) are drawn
    from `low` to `high`, evenly in the logarithm, or one of `choices`. `says` is how likely its owner says what.
    `settings` goes with the machine's settings and not with a part."""

    kind: FaultKind
    share: float
    part: PartKind
    remedy: Action = Action.REPLACE
    low: float = 1.0
    high: float = 1.0
    choices: tuple[float, ...] = ()
    symptoms: dict[str, float] = field(default_factory=dict)
    settings: bool = False
    item: str = ""
    """What is replaced for it where that is not a whole part, as the price list calls it."""


_CRASHES = {"stop screen": 0.4, "freezes": 0.25, "resets under load": 0.2}
_CORRUPTS = {"stop screen": 0.5, "will not finish an installation": 0.3, "files damaged": 0.25, "freezes": 0.15}
_STOPS = {"resets under load": 0.6, "switches itself off": 0.3}
_HEATS = {"slow under load": 0.5, "hot or loud": 0.5, "worse when warm": 0.3, "switches itself off": 0.1}
_HANGS = {"picture faults": 0.6, "freezes": 0.7, "stop screen": 0.2}
_PICTURE = {"picture faults": 0.7, "freezes": 0.3, "stop screen": 0.1}
_DRIVES = {"files damaged": 0.3, "drive not found": 0.3, "will not finish an installation": 0.2, "freezes": 0.2}

_RADIO, _SOUND = "wireless card or antenna", "speaker, microphone or sound card"
_INPUT, _PORT = "keyboard, touchpad or camera", "port or its cable"

FAULT_CATALOGUE: tuple[CatalogueFault, ...] = (
    CatalogueFault(K.WEAK_CORE, 10, P.PROCESSOR, low=0.05, high=3.0, symptoms=_CRASHES | {"worse when warm": 0.4}),
    CatalogueFault(K.WEAK_VECTOR_UNIT, 2, P.PROCESSOR, low=0.03, high=3.0, symptoms=_CRASHES),
    CatalogueFault(K.CACHE_BIT, 2, P.PROCESSOR, low=0.02, high=2.0, symptoms=_CRASHES),
    CatalogueFault(K.COHERENCE, 1, P.PROCESSOR, low=0.1, high=5.0, symptoms={"freezes": 0.6, "stop screen": 0.4}),
    CatalogueFault(K.CORE_HANGS, 1.5, P.PROCESSOR, low=0.5, high=20.0, symptoms={"freezes": 0.9}),
    CatalogueFault(K.MEMORY_CONTROLLER, 3, P.PROCESSOR, low=2.0, high=300.0, symptoms=_CORRUPTS),
    CatalogueFault(
        K.OVERCLOCK,
        4,
        P.PROCESSOR,
        A.STOCK,
        40.0,
        400.0,
        symptoms=_CRASHES | {"overclocked or undervolted": 0.7},
        settings=True,
    ),
    CatalogueFault(
        K.UNDERVOLT,
        4,
        P.PROCESSOR,
        A.STOCK,
        12.0,
        60.0,
        symptoms=_CRASHES | {"overclocked or undervolted": 0.7},
        settings=True,
    ),
    CatalogueFault(
        K.MEMORY_TIMING, 4, P.MEMORY, A.STOCK, 0.5, 60.0, symptoms=_CORRUPTS | {"since a new part": 0.3}, settings=True
    ),
    CatalogueFault(K.CELL_STUCK, 7, P.MEMORY, choices=(0.0, 1.0), symptoms=_CORRUPTS),
    CatalogueFault(K.CELL_TRANSITION, 3, P.MEMORY, choices=(0.0, 1.0), symptoms=_CORRUPTS),
    CatalogueFault(K.CELL_COUPLED, 3, P.MEMORY, choices=(0.0, 1.0, 2.0), symptoms=_CORRUPTS),
    CatalogueFault(K.ADDRESS_LINE, 1, P.MEMORY, choices=(3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0), symptoms=_CORRUPTS),
    CatalogueFault(K.RETENTION, 2, P.MEMORY, low=0.3, high=6.0, symptoms=_CORRUPTS | {"worse when warm": 0.3}),
    CatalogueFault(K.SLOT_CONTACT, 5, P.MEMORY, A.RESEAT, 2.0, 60.0, symptoms=_CORRUPTS | {"since it was moved": 0.4}),
    CatalogueFault(K.MEMORY_PATH, 2, P.BOARD, low=2.0, high=300.0, symptoms=_CORRUPTS),
    CatalogueFault(K.BAD_SLOT, 0, P.BOARD, A.MOVE, 2.0, 300.0, symptoms=_CORRUPTS),
    CatalogueFault(K.CLOGGED_HEATSINK, 16, P.COOLING, A.CLEAN, 0.45, 0.8, symptoms=_HEATS),
    CatalogueFault(K.DRY_PASTE, 4, P.COOLING, A.CLEAN, 0.75, 0.92, symptoms=_HEATS),
    CatalogueFault(K.DEAD_FAN, 5, P.COOLING, symptoms=_HEATS),
    CatalogueFault(K.SAGGING_SUPPLY, 6, P.POWER, low=0.06, high=0.3, symptoms=_STOPS),
    CatalogueFault(K.RESETS, 5, P.POWER, low=0.5, high=15.0, symptoms=_STOPS),
    CatalogueFault(K.BOARD_SUPPLY, 7, P.BOARD, low=15.0, high=120.0, symptoms=_STOPS | {"freezes": 0.3}),
    CatalogueFault(K.SLOT_LINK, 2, P.BOARD, A.RESEAT, 0.5, 30.0, symptoms={"picture faults": 0.3, "freezes": 0.3}),
    CatalogueFault(
        K.GRAPHICS_HANGS, 2.5, P.GRAPHICS, low=0.3, high=10.0, symptoms={"picture faults": 0.7, "freezes": 0.6}
    ),
    CatalogueFault(K.CARD_CORE, 2.5, P.GRAPHICS, low=2.0, high=400.0, symptoms=_PICTURE | {"worse when warm": 0.3}),
    CatalogueFault(K.CARD_MEMORY, 2.5, P.GRAPHICS, low=2.0, high=300.0, symptoms=_PICTURE),
    CatalogueFault(K.CARD_COOLER, 3, P.GRAPHICS, A.CLEAN, 0.5, 0.8, symptoms=_HEATS),
    CatalogueFault(K.CARD_FAN, 1.5, P.GRAPHICS, symptoms=_HEATS),
    CatalogueFault(
        K.CARD_CLOCKS,
        2,
        P.GRAPHICS,
        A.STOCK,
        2.0,
        200.0,
        symptoms=_PICTURE | {"overclocked or undervolted": 0.6},
        settings=True,
    ),
    CatalogueFault(K.CARD_DRIVER, 2, P.GRAPHICS, A.STOCK, 1.0, 40.0, symptoms=_HANGS, settings=True),
    CatalogueFault(
        K.CARD_PLUG, 1.5, P.POWER, A.RESEAT, 1.0, 60.0, symptoms={"no picture": 0.8, "since a new part": 0.3}
    ),
    CatalogueFault(
        K.DISPLAY_CABLE, 2, P.DISPLAY, A.RESEAT, 2.0, 120.0, symptoms={"picture faults": 0.8, "since it was moved": 0.3}
    ),
    CatalogueFault(K.DRIVE_SURFACE, 4, P.DRIVE, low=0.5, high=30.0, symptoms=_DRIVES | {"drive makes noise": 0.2}),
    CatalogueFault(K.DRIVE_CABLE, 2, P.DRIVE, A.RESEAT, 0.5, 30.0, symptoms=_DRIVES),
    CatalogueFault(K.DRIVE_ELECTRONICS, 1.5, P.DRIVE, low=0.5, high=20.0, symptoms=_DRIVES),
    CatalogueFault(K.DRIVE_WORN, 1.5, P.DRIVE, low=1.0, high=8.0, symptoms=_DRIVES | {"slow under load": 0.3}),
    CatalogueFault(K.DRIVE_PORT, 0.7, P.BOARD, A.MOVE, 0.5, 30.0, symptoms=_DRIVES),
)
"""All kinds but those of channels, strays and damaged file systems, which mislead and are no faults of the hardware."""

CHECKED_CATALOGUE: tuple[CatalogueFault, ...] = (
    CatalogueFault(K.BATTERY_WORN, 6, P.BATTERY, low=0.36, high=0.7, symptoms={"battery runs down": 0.8}),
    CatalogueFault(K.BATTERY_GAUGE, 1, P.BATTERY, low=0.6, high=1.0, symptoms={"battery runs down": 0.6}),
    CatalogueFault(K.WEAK_ADAPTER, 3, P.POWER, low=10.0, high=16.0, item="adapter"),
    CatalogueFault(K.CLOCK_BATTERY, 3, P.BOARD, item="clock battery"),
    CatalogueFault(
        K.NETWORK_CABLE,
        4,
        P.NETWORK,
        low=0.05,
        high=0.5,
        symptoms={"network drops": 0.9},
        item="network cable or adapter",
    ),
    CatalogueFault(
        K.WEAK_RADIO, 3, P.NETWORK, choices=(-84.0, -88.0, -91.0), symptoms={"network drops": 0.9}, item=_RADIO
    ),
    CatalogueFault(K.FAN_DEAF, 2, P.COOLING, choices=(1.0, 2.0), symptoms={"hot or loud": 0.7}),
    CatalogueFault(K.DEAD_PIXEL, 2, P.DISPLAY),
    CatalogueFault(K.BACKLIGHT_STUCK, 1, P.DISPLAY),
    CatalogueFault(K.DEAD_SPEAKER, 2, P.SOUND, choices=(1.0, 2.0), item=_SOUND),
    CatalogueFault(K.DEAF_MICROPHONE, 2, P.SOUND, item=_SOUND),
    CatalogueFault(K.KEY_CHATTERS, 3, P.BOARD, item=_INPUT),
    CatalogueFault(K.TOUCH_DEAD, 1, P.BOARD, choices=(1.0, 2.0, 3.0), item=_INPUT),
    CatalogueFault(K.DEAD_PORT, 3, P.BOARD, choices=(1.0, 2.0, 3.0), item=_PORT),
    CatalogueFault(K.DEAD_READER, 1, P.BOARD, item=_PORT),
    CatalogueFault(K.TIRED_LASER, 1, P.DRIVE, choices=(1.0,), item="optical drive"),
)
"""What only component checks find, on notebooks that have it; drawn when it is asked for."""
OF_CHECKS = tuple(each.kind for each in CHECKED_CATALOGUE)
ITEMS = frozenset(each.item for each in CHECKED_CATALOGUE if each.item)

CRASHING_CATALOGUE: tuple[CatalogueFault, ...] = (
    CatalogueFault(K.CRASHING_CORE, 4, P.PROCESSOR, low=0.7, high=15.0, symptoms=_CRASHES | {"freezes": 0.6}),
    CatalogueFault(K.CRASHING_MEMORY, 3, P.MEMORY, low=0.7, high=15.0, symptoms=_CORRUPTS),
    CatalogueFault(K.BOARD_CUTS, 3, P.BOARD, low=0.7, high=15.0, symptoms=_STOPS | {"freezes": 0.3}),
    CatalogueFault(
        K.OVERHEATS, 3, P.COOLING, A.CLEAN, 0.55, 0.85, symptoms={"switches itself off": 0.7, "hot or loud": 0.4}
    ),
)
"""Machines that only crash: no load and no check ever finds anything else; drawn when it is asked for."""
OF_CRASHES = (K.RESETS, *(each.kind for each in CRASHING_CATALOGUE))

LINKS_OF_SATA = (K.DRIVE_CABLE, K.DRIVE_PORT)
"""What only a drive with a cable can have."""
OF_CARDS = (
    K.GRAPHICS_HANGS,
    K.CARD_CORE,
    K.CARD_MEMORY,
    K.CARD_COOLER,
    K.CARD_FAN,
    K.CARD_CLOCKS,
    K.CARD_DRIVER,
    K.CARD_PLUG,
    K.DISPLAY_CABLE,
    K.SLOT_LINK,
)
WITH_A_CARD = tuple(each for each in OF_CARDS if each is not K.SLOT_LINK)
"""What only a machine with a graphics card can have."""
OF_DRIVES = (K.DRIVE_SURFACE, K.DRIVE_CABLE, K.DRIVE_ELECTRONICS, K.DRIVE_WORN, K.DRIVE_PORT)

COMPLAINTS_OF_HEALTHY = {
    "stop screen": 0.3,
    "freezes": 0.3,
    "slow under load": 0.2,
    "will not finish an installation": 0.15,
    "files damaged": 0.1,
    "network drops": 0.1,
    "since a new part": 0.1,
    "once in hours or days": 0.2,
}
"""What owners say of machines whose hardware is sound: software does that."""
STRAY_SAYING = 0.04
"""How likely an owner says any one thing that has nothing to do with it."""
