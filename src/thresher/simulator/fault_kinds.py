"""What can be wrong with a simulated machine, and what the strength of each fault is."""

from dataclasses import dataclass
from enum import StrEnum


class FaultKind(StrEnum):
    """What can be wrong with a simulated machine."""

    WEAK_CORE = "weak core"
    CLOGGED_HEATSINK = "clogged heatsink"
    DEAD_FAN = "dead fan"
    DRY_PASTE = "dry paste"
    SAGGING_SUPPLY = "sagging supply"
    WEAK_VECTOR_UNIT = "weak vector unit"
    CACHE_BIT = "cache bit"
    COHERENCE = "coherence"
    OVERCLOCK = "overclock"
    UNDERVOLT = "undervolt"
    CORE_HANGS = "core hangs"
    RESETS = "resets"
    CRASHING_CORE = "crashing core"
    CRASHING_MEMORY = "crashing memory"
    CRASHING_SYSTEM = "crashing system"
    BOARD_CUTS = "board cuts out"
    OVERHEATS = "overheats"
    FREEZES = "freezes"
    PANICS = "panics"
    SWITCHES_OFF = "switches off"
    CELL_STUCK = "cell stuck"
    CELL_TRANSITION = "cell transition"
    CELL_COUPLED = "cell coupled"
    ADDRESS_LINE = "address line"
    RETENTION = "retention"
    SLOT_CONTACT = "slot contact"
    MEMORY_CONTROLLER = "memory controller"
    MEMORY_TIMING = "memory timing"
    BOARD_SUPPLY = "drooping board supply"
    MEMORY_PATH = "memory path"
    BAD_SLOT = "bad memory slot"
    SLOT_LINK = "slot link"
    GRAPHICS_HANGS = "graphics hangs"
    CARD_CORE = "card core"
    CARD_MEMORY = "card memory"
    CARD_COOLER = "clogged card cooler"
    CARD_FAN = "card fan stopped"
    CARD_PLUG = "card power plug"
    CARD_CLOCKS = "card overclock"
    CARD_DRIVER = "card driver"
    DISPLAY_CABLE = "display cable"
    DRIVE_SURFACE = "drive surface"
    DRIVE_CABLE = "drive cable"
    DRIVE_PORT = "drive port"
    DRIVE_ELECTRONICS = "drive electronics"
    DRIVE_WORN = "drive worn"
    FILE_SYSTEM = "damaged file system"
    BATTERY_WORN = "battery worn"
    BATTERY_GAUGE = "battery counts wrong"
    WEAK_ADAPTER = "weak adapter"
    NETWORK_CABLE = "network cable"
    NETWORK_PORT = "network port"
    WRONG_NAMES = "wrong name server"
    SIGN_IN = "network wants a sign-in"
    PROVIDER_DOWN = "provider down"
    WEAK_RADIO = "weak radio"
    FAN_DEAF = "fan does not follow"
    CLOCK_BATTERY = "clock battery empty"
    DEAD_PIXEL = "dead pixel"
    BACKLIGHT_STUCK = "backlight does not follow"
    DEAD_SPEAKER = "dead speaker"
    SPEAKER_RATTLES = "speaker rattles"
    DEAF_MICROPHONE = "deaf microphone"
    KEY_CHATTERS = "key chatters"
    TOUCH_DEAD = "dead strip of the touch screen"
    DEAD_PORT = "dead USB port"
    DEAD_READER = "dead card reader"
    TIRED_LASER = "tired laser"
    BLUETOOTH_DEAD = "Bluetooth does not start"
    CONTROLLER_FAN = "fan below the controller's limit"
    STRAY_ERRORS = "stray errors"
    CHANNEL_VANISHES = "channel vanishes"
    CHANNEL_GARBAGE = "channel garbage"
    CHANNEL_STUCK = "channel stuck"
    CHANNEL_OFFSET = "channel offset"
    CHANNEL_JUMPS = "channel jumps"


CHANNEL_FAULTS = (
    FaultKind.CHANNEL_VANISHES,
    FaultKind.CHANNEL_GARBAGE,
    FaultKind.CHANNEL_STUCK,
    FaultKind.CHANNEL_OFFSET,
    FaultKind.CHANNEL_JUMPS,
)


CHECKED_FAULTS = (
    FaultKind.BATTERY_WORN,
    FaultKind.BATTERY_GAUGE,
    FaultKind.WEAK_ADAPTER,
    FaultKind.NETWORK_CABLE,
    FaultKind.NETWORK_PORT,
    FaultKind.WRONG_NAMES,
    FaultKind.SIGN_IN,
    FaultKind.PROVIDER_DOWN,
    FaultKind.WEAK_RADIO,
    FaultKind.FAN_DEAF,
    FaultKind.CLOCK_BATTERY,
    FaultKind.DEAD_PIXEL,
    FaultKind.BACKLIGHT_STUCK,
    FaultKind.DEAD_SPEAKER,
    FaultKind.SPEAKER_RATTLES,
    FaultKind.DEAF_MICROPHONE,
    FaultKind.KEY_CHATTERS,
    FaultKind.TOUCH_DEAD,
    FaultKind.DEAD_PORT,
    FaultKind.DEAD_READER,
    FaultKind.TIRED_LASER,
    FaultKind.BLUETOOTH_DEAD,
    FaultKind.CONTROLLER_FAN,
)
"""Faults that component checks look for; no load shows them."""

MEMORY_CELL_FAULTS = (
    FaultKind.CELL_STUCK,
    FaultKind.CELL_TRANSITION,
    FaultKind.CELL_COUPLED,
    FaultKind.ADDRESS_LINE,
    FaultKind.RETENTION,
)
SLOT_FAULTS = (*MEMORY_CELL_FAULTS, FaultKind.SLOT_CONTACT, FaultKind.BAD_SLOT)
CORE_FAULTS = (
    FaultKind.WEAK_CORE,
    FaultKind.WEAK_VECTOR_UNIT,
    FaultKind.CACHE_BIT,
    FaultKind.COHERENCE,
    FaultKind.CORE_HANGS,
    FaultKind.CRASHING_CORE,
)

STRENGTH_MEANS: dict[FaultKind, str] = {
    FaultKind.WEAK_CORE: "signs per minute at full load and 90 °C; hardly any below 74 °C",
    FaultKind.WEAK_VECTOR_UNIT: "wrong results per minute of loads in the widest vectors at 85 °C; none of other loads",
    FaultKind.CACHE_BIT: "signs per minute of any load on the core, whatever the temperature",
    FaultKind.COHERENCE: "wrong messages per minute of relay between the core and any other",
    FaultKind.OVERCLOCK: "MHz above what the processor holds: slips on all cores, many more when warm",
    FaultKind.UNDERVOLT: "millivolts too little: slips on all cores, most at single-core boost and when load comes on",
    FaultKind.CORE_HANGS: "hangs per hour of full load; the core does nothing more until the machine is reset",
    FaultKind.RESETS: "resets per hour of full load, twice as many for every load that comes on in a second",
    FaultKind.CRASHING_CORE: "crashes of the whole machine per hour of full load on the core at 85 °C; no other sign",
    FaultKind.CRASHING_MEMORY: "crashes per hour of memory traffic, a tenth as many under other loads; no other sign",
    FaultKind.CRASHING_SYSTEM: "crashes per hour of being on, whatever it does: the installed system's own",
    FaultKind.BOARD_CUTS: "times per hour of the hottest load that the board's supply to the processor gives up",
    FaultKind.OVERHEATS: "share of its conductance that the cooler has lost; nothing lowers the clock, it shuts down",
    FaultKind.FREEZES: "freezes per hour of full load",
    FaultKind.PANICS: "kernel panics per hour of full load",
    FaultKind.SWITCHES_OFF: "times per hour of full load that it switches itself off",
    FaultKind.CLOGGED_HEATSINK: "share of its conductance lost",
    FaultKind.DEAD_FAN: "not used",
    FaultKind.DRY_PASTE: "share of its conductance that the paste between processor and heatsink has lost",
    FaultKind.SAGGING_SUPPLY: "ohms of source resistance",
    FaultKind.CELL_STUCK: "content that the bit is stuck at, 0 or 1",
    FaultKind.CELL_TRANSITION: "content that the bit cannot change to, 0 or 1",
    FaultKind.CELL_COUPLED: "content forced on the bit when its neighbour rises, 0 or 1; 2 turns it over",
    FaultKind.ADDRESS_LINE: "which address line is dead, counted from the lowest above a line of words, 3 to 9",
    FaultKind.RETENTION: "seconds that the bit keeps its content at 45 °C, half of that for each 10 K more",
    FaultKind.SLOT_CONTACT: "bad spells per hour; in one the bit lane is read wrongly every few words for some seconds",
    FaultKind.MEMORY_CONTROLLER: "wrong words per hour of memory traffic, anywhere, three times as many when hot",
    FaultKind.MEMORY_TIMING: "wrong words per hour of memory traffic at 45 °C, twice as many for each 5 K more",
    FaultKind.BOARD_SUPPLY: "millivolts that the processor's supply droops at full load: slips anywhere, resets",
    FaultKind.MEMORY_PATH: "wrong words per hour of memory traffic in one bit lane, at any temperature",
    FaultKind.BAD_SLOT: "wrong words per hour of memory traffic of whichever module sits in the slot, in one bit lane",
    FaultKind.SLOT_LINK: "link errors per hour of use in the kernel log, one in ten not corrected",
    FaultKind.GRAPHICS_HANGS: "hangs of the graphics card per hour of everyday use, six times as many at full load",
    FaultKind.CARD_CORE: "wrong results per hour of full load at 80 °C of its hottest spot, e times for each 12 K more",
    FaultKind.CARD_MEMORY: "wrong words per hour of use of the card's memory, in one bit lane of one region",
    FaultKind.CARD_COOLER: "share of its conductance lost",
    FaultKind.CARD_FAN: "not used",
    FaultKind.CARD_PLUG: "times per hour of full load that the card drops out, more for every load that comes on",
    FaultKind.CARD_CLOCKS: "wrong results and hangs per hour of full load; none with clocks at stock",
    FaultKind.CARD_DRIVER: "hangs per hour of full load; none with another driver",
    FaultKind.DISPLAY_CABLE: "faults of the picture per hour that only a person sees: the card draws it right",
    FaultKind.DRIVE_SURFACE: "sectors per hour of use that cannot be read, in the kernel log; some are lost already",
    FaultKind.DRIVE_CABLE: "damaged transfers per hour of use in the kernel log, and counted by the drive",
    FaultKind.DRIVE_PORT: "damaged transfers per hour of use in the kernel log, whatever the cable",
    FaultKind.DRIVE_ELECTRONICS: "incidents per hour of use: requests without answer, wrong data, lost writes",
    FaultKind.DRIVE_WORN: "per cent of its rated endurance above 100 that are used up",
    FaultKind.FILE_SYSTEM: "old damage found per hour of use, on a drive that is sound",
    FaultKind.BATTERY_WORN: "share of what it was made for that is lost",
    FaultKind.BATTERY_GAUGE: "share of the charge that it does not count",
    FaultKind.WEAK_ADAPTER: "watts that the adapter can give",
    FaultKind.NETWORK_CABLE: "share of large packets that are damaged; above 0.15 the link is slower too",
    FaultKind.NETWORK_PORT: "not used",
    FaultKind.WRONG_NAMES: "not used",
    FaultKind.SIGN_IN: "not used",
    FaultKind.PROVIDER_DOWN: "not used",
    FaultKind.WEAK_RADIO: "signal in dBm",
    FaultKind.FAN_DEAF: "number of the fan: 1 the processor's, 2 the case's",
    FaultKind.CLOCK_BATTERY: "not used",
    FaultKind.DEAD_PIXEL: "not used",
    FaultKind.BACKLIGHT_STUCK: "not used",
    FaultKind.DEAD_SPEAKER: "the side that is dead: 1 left, 2 right",
    FaultKind.SPEAKER_RATTLES: "not used",
    FaultKind.DEAF_MICROPHONE: "not used",
    FaultKind.KEY_CHATTERS: "not used",
    FaultKind.TOUCH_DEAD: "dead strips of nine fields",
    FaultKind.DEAD_PORT: "number of the port",
    FaultKind.DEAD_READER: "not used",
    FaultKind.TIRED_LASER: "share of the disc that it cannot read, from the outer edge",
    FaultKind.BLUETOOTH_DEAD: "not used",
    FaultKind.CONTROLLER_FAN: "not used",
    FaultKind.STRAY_ERRORS: "harmless corrected errors per hour in the log of a healthy machine",
    FaultKind.CHANNEL_VANISHES: "not used",
    FaultKind.CHANNEL_GARBAGE: "not used",
    FaultKind.CHANNEL_STUCK: "not used",
    FaultKind.CHANNEL_OFFSET: "what is added to the number in the file",
    FaultKind.CHANNEL_JUMPS: "what is added to the number in the file for every third second",
}
"""What `strength` is for each kind of fault."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """One fault; what `strength` means is in `STRENGTH_MEANS`.

    `core` belongs to faults of a core. `slot`, `at` (share of the module, 0 to 1) and `bit` belong to faults of
    memory. `path` and `after_s` belong to the channel faults: the file, and seconds after the model starts. `drive` is
    the kernel name of the drive that a fault of drives is in, empty for every drive;
    `card` that of the graphics card, empty for the first. What comes and goes acts in spells of `spell_s` seconds on
    the mean and rests as long between them (0: always at work); what wears has become 10**`drift` times as strong after
    every hour, five times at most. Both concern faults whose strength is a rate of loads or of use."""

    kind: FaultKind
    strength: float = 1.0
    core: int = 0
    slot: str = ""
    at: float = 0.37
    bit: int = 19
    path: str = ""
    after_s: float = 0.0
    drive: str = ""
    card: str = ""
    spell_s: float = 0.0
    drift: float = 0.0
