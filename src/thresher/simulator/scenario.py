"""Scenario files: which machine a simulated machine is and what is wrong with it (`thresher-scenario/1`, TOML)."""

from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from thresher.model.errors import InputError, InputFault
from thresher.model.parts import BuiltInKind
from thresher.model.regular_file import read_text_file
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys

FORMAT = "thresher-scenario/1"
_OLDER_FORMATS = ("thresher-bench-model/1",)


class FaultKind(StrEnum):
    """What can be wrong with a simulated machine."""

    WEAK_CORE = "weak core"
    CLOGGED_HEATSINK = "clogged heatsink"
    DEAD_FAN = "dead fan"
    SAGGING_SUPPLY = "sagging supply"
    WEAK_VECTOR_UNIT = "weak vector unit"
    CACHE_BIT = "cache bit"
    COHERENCE = "coherence"
    OVERCLOCK = "overclock"
    UNDERVOLT = "undervolt"
    CORE_HANGS = "core hangs"
    RESETS = "resets"
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
)
"""Faults that component checks look for; no load shows them."""

MEMORY_CELL_FAULTS = (
    FaultKind.CELL_STUCK,
    FaultKind.CELL_TRANSITION,
    FaultKind.CELL_COUPLED,
    FaultKind.ADDRESS_LINE,
    FaultKind.RETENTION,
)
SLOT_FAULTS = (*MEMORY_CELL_FAULTS, FaultKind.SLOT_CONTACT)
CORE_FAULTS = (
    FaultKind.WEAK_CORE,
    FaultKind.WEAK_VECTOR_UNIT,
    FaultKind.CACHE_BIT,
    FaultKind.COHERENCE,
    FaultKind.CORE_HANGS,
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
    FaultKind.CLOGGED_HEATSINK: "share of its conductance lost",
    FaultKind.DEAD_FAN: "not used",
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
    `card` that of the graphics card, empty for the first."""

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


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorSpec:
    """The processor of a simulated machine: clocks in MHz, power in W, temperature in °C."""

    name: str
    cores: int
    threads_per_core: int
    base_mhz: int
    all_core_mhz: int
    boost_mhz: int
    limit_c: float
    power_limit_w: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ModuleSpec:
    """A memory module in its slot."""

    slot: str
    maker: str
    part_number: str
    size_gib: int
    rated_mts: int
    configured_mts: int
    serial: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class DriveSpec:
    """A drive: its kernel name, model and size in bytes, and what it reports about itself when it is asked.

    `name` begins with nvme for an NVMe drive, with sd for an ATA drive. `used` is wear and `spare` what is left of the
    spare blocks, both in per cent. `link_gbps` is the speed of an ATA drive's link, of the 6 Gb/s that it can do.

    What it does under work: `decays` is how many sectors an hour it loses, `heats_k` how many kelvin warmer it gets,
    `stalls` in which share of requests it holds everything up for 4 s, `lies` which share of what is written it loses,
    `flips` which share of what is read comes back with a bit turned over. `gone_after_s` is after how many seconds of
    work it leaves the bus. `bridge` puts it behind a USB bridge that passes no ATA commands.
    """

    name: str
    model: str
    serial: str
    firmware: str
    size_bytes: int
    idle_c: float = 38.0
    rotation: int = 1
    hours: int = 4021
    power_cycles: int = 812
    unsafe_shutdowns: int = 12
    used: int = 3
    spare: int = 100
    media_errors: int = 0
    reallocated: int = 0
    pending: tuple[int, ...] = ()
    link_crc: int = 0
    link_gbps: float = 6.0
    failing: bool = False
    silent: bool = False
    failed_test_lba: int | None = None
    decays: float = 0.0
    heats_k: float = 9.0
    stalls: float = 0.0
    lies: float = 0.0
    flips: float = 0.0
    gone_after_s: float | None = None
    bridge: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class BoardSpec:
    """The board, its firmware and its memory slots in the order of the board."""

    maker: str
    name: str
    firmware_maker: str
    firmware_version: str
    firmware_date: str
    slots: tuple[str, ...]
    serial: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class GraphicsSpec:
    """A graphics card: idle temperature and limit in °C, clocks in MHz, the most power that it draws in W."""

    name: str
    memory_gib: int
    idle_c: float = 41.0
    limit_c: float = 100.0
    idle_mhz: int = 210
    boost_mhz: int = 2100
    power_w: float = 160.0


@dataclass(frozen=True, slots=True, kw_only=True)
class BatterySpec:
    """A battery: what it was made for in Wh, the share that it still holds, its charge, 0 to 1, and its cycles.

    `stops_at` is the share at which charging stops by setting."""

    name: str
    maker: str
    model: str
    serial: str = ""
    design_wh: float
    held: float = 0.94
    charge: float = 0.8
    cycles: int = 120
    stops_at: float = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class InterfaceSpec:
    """A network interface: its address, empty when nothing is plugged in, and the speed of a wired one in Mbit/s."""

    name: str
    wireless: bool = False
    address: str = ""
    speed_mbit: int = 1000


@dataclass(frozen=True, slots=True, kw_only=True)
class DisplaySpec:
    """A display: its connector (eDP-1), its name of at most 13 letters, its pixels and its size in cm."""

    connector: str
    name: str
    width: int = 1920
    height: int = 1080
    wide_cm: int = 31
    high_cm: int = 17


@dataclass(frozen=True, slots=True, kw_only=True)
class FittingsSpec:
    """What else is built in; `person` says whether somebody sits there who answers questions by himself."""

    built_in: tuple[BuiltInKind, ...] = ()
    sound_outputs: tuple[str, ...] = ()
    sound_inputs: tuple[str, ...] = ()
    usb_ports: int = 0
    person: bool = False


@dataclass(frozen=True, slots=True)
class Scenario:
    """A whole simulated machine: `speed` is how fast its clock runs unless something else is asked for.

    `cooler_share` is what its cooler carries away, as a share of a tower cooler's. `adapter_w` is what the adapter of a
    machine with batteries gives, 0 when it is pulled out; `driven_fans` says whether its board lets fans be driven.
    """

    title: str
    machine: str
    seed: int
    speed: float
    ambient_c: float
    start: str
    processor: ProcessorSpec
    board: BoardSpec
    modules: tuple[ModuleSpec, ...]
    drives: tuple[DriveSpec, ...]
    graphics: tuple[GraphicsSpec, ...]
    faults: tuple[Fault, ...]
    supply: str
    cooler: str
    symptoms: tuple[str, ...]
    job: str
    interleaved: bool = True
    cooler_share: float = 1.0
    batteries: tuple[BatterySpec, ...] = ()
    interfaces: tuple[InterfaceSpec, ...] = ()
    adapter_w: float = 0.0
    driven_fans: bool = False
    displays: tuple[DisplaySpec, ...] = ()
    fittings: FittingsSpec = FittingsSpec()


@dataclass(frozen=True, slots=True, kw_only=True)
class _Head:
    title: str
    machine: str
    seed: int = 1
    speed: float = 1.0
    ambient_c: float = 23.0
    start: str = "2026-01-01T09:00:00+00:00"
    supply: str = "power supply"
    cooler: str = "cooler"
    job: str = ""
    symptoms: tuple[str, ...] = ()
    interleaved: bool = True
    cooler_share: float = 1.0
    adapter_w: float = 0.0
    driven_fans: bool = False


_SECTIONS = {
    "format",
    "processor",
    "board",
    "memory",
    "drives",
    "graphics",
    "faults",
    "batteries",
    "interfaces",
    "displays",
    "fittings",
}


def parse_scenario(text: str, source: str) -> Scenario:
    """Parse and check a scenario. Raises InputError with every fault found."""
    data = parse_toml(text, source, FORMAT, _OLDER_FORMATS)
    faults: list[InputFault] = []
    head_keys = set(_Head.__dataclass_fields__)
    unknown_keys(data, _SECTIONS | head_keys, faults)
    head = convert_section({k: v for k, v in data.items() if k in head_keys}, _Head, "", faults)
    processor = convert_section(data.get("processor", {}), ProcessorSpec, "processor", faults)
    board = convert_section(data.get("board", {}), BoardSpec, "board", faults)
    modules = convert_list(data, "memory", ModuleSpec, faults)
    drives = convert_list(data, "drives", DriveSpec, faults)
    graphics = convert_list(data, "graphics", GraphicsSpec, faults)
    batteries = convert_list(data, "batteries", BatterySpec, faults)
    interfaces = convert_list(data, "interfaces", InterfaceSpec, faults)
    displays = convert_list(data, "displays", DisplaySpec, faults)
    fittings = convert_section(data.get("fittings", {}), FittingsSpec, "fittings", faults)
    ailments = convert_list(data, "faults", Fault, faults)
    if head is None or processor is None or board is None or fittings is None:
        raise InputError(source, faults)
    faults += [
        InputFault(f"batteries[{index}]", "expected design_wh from 1 to 400, held and charge from 0.05 to 1")
        for index, each in enumerate(batteries)
        if not (1 <= each.design_wh <= 400 and 0.05 <= each.held <= 1.2 and 0.05 <= each.charge <= 1)
    ]
    faults += [
        InputFault(f"displays[{index}]", "expected 320 to 4095 pixels each way, 1 to 255 cm, a name of 1 to 13 letters")
        for index, each in enumerate(displays)
        if not (320 <= each.width <= 4095 and 200 <= each.height <= 4095 and 1 <= len(each.name) <= 13)
        or not (1 <= each.wide_cm <= 255 and 1 <= each.high_cm <= 255)
    ]
    faults += _check_head(head) + _check_processor(processor) + _check_faults(ailments, processor, modules)
    faults += [
        InputFault(f"memory[{index}].slot", f"{module.slot!r} is not one of the board's slots {', '.join(board.slots)}")
        for index, module in enumerate(modules)
        if module.slot not in board.slots
    ]
    if faults:
        raise InputError(source, faults)
    return Scenario(
        title=head.title,
        machine=head.machine,
        seed=head.seed,
        speed=head.speed,
        ambient_c=head.ambient_c,
        start=head.start,
        processor=processor,
        board=board,
        modules=tuple(modules),
        drives=tuple(drives),
        graphics=tuple(graphics),
        faults=tuple(ailments),
        supply=head.supply,
        cooler=head.cooler,
        symptoms=head.symptoms,
        job=head.job,
        interleaved=head.interleaved,
        cooler_share=head.cooler_share,
        batteries=tuple(batteries),
        interfaces=tuple(interfaces),
        adapter_w=head.adapter_w,
        driven_fans=head.driven_fans,
        displays=tuple(displays),
        fittings=fittings,
    )


def _check_head(head: _Head) -> list[InputFault]:
    faults = []
    if not 0.1 <= head.speed <= 10_000:
        faults.append(InputFault("speed", f"expected 0.1 to 10000, found {head.speed}"))
    if not -20 <= head.ambient_c <= 60:
        faults.append(InputFault("ambient_c", f"expected -20 to 60, found {head.ambient_c}"))
    if not 0.1 <= head.cooler_share <= 3:
        faults.append(InputFault("cooler_share", f"expected 0.1 to 3, found {head.cooler_share}"))
    return faults


def _check_processor(processor: ProcessorSpec) -> list[InputFault]:
    faults = []
    if not 1 <= processor.cores <= 256 or processor.threads_per_core not in (1, 2):
        faults.append(InputFault("processor", "expected 1 to 256 cores of 1 or 2 threads"))
    if not 400 <= processor.base_mhz <= processor.all_core_mhz <= processor.boost_mhz <= 8000:
        faults.append(InputFault("processor", "expected 400 <= base_mhz <= all_core_mhz <= boost_mhz <= 8000"))
    if not 50 <= processor.limit_c <= 125:
        faults.append(InputFault("processor.limit_c", f"expected 50 to 125, found {processor.limit_c}"))
    return faults


_STRENGTHS: dict[FaultKind, tuple[float, float]] = {
    FaultKind.CLOGGED_HEATSINK: (0.001, 0.999),
    FaultKind.CARD_COOLER: (0.001, 0.999),
    FaultKind.BATTERY_WORN: (0.01, 0.9),
    FaultKind.BATTERY_GAUGE: (0.01, 1.0),
    FaultKind.WEAK_ADAPTER: (1, 400),
    FaultKind.NETWORK_CABLE: (0.001, 0.9),
    FaultKind.WEAK_RADIO: (-100, -30),
    FaultKind.FAN_DEAF: (1, 2),
    FaultKind.DEAD_SPEAKER: (1, 2),
    FaultKind.TOUCH_DEAD: (1, 15),
    FaultKind.DEAD_PORT: (1, 24),
    FaultKind.TIRED_LASER: (0.01, 1),
    FaultKind.CELL_STUCK: (0, 1),
    FaultKind.CELL_TRANSITION: (0, 1),
    FaultKind.CELL_COUPLED: (0, 2),
    FaultKind.ADDRESS_LINE: (3, 9),
    FaultKind.RETENTION: (0.1, 1e6),
}
"""Smallest and largest strength, where there are such."""


def _check_faults(ailments: list[Fault], processor: ProcessorSpec, modules: list[ModuleSpec]) -> list[InputFault]:
    faults = []
    slots = [module.slot for module in modules]
    for index, fault in enumerate(ailments):
        place = f"faults[{index}]"
        if fault.kind in CORE_FAULTS and not 0 <= fault.core < processor.cores:
            faults.append(InputFault(f"{place}.core", f"expected 0 to {processor.cores - 1}, found {fault.core}"))
        low, high = _STRENGTHS.get(fault.kind, (-1e9, 1e9))
        if not low <= fault.strength <= high:
            faults.append(InputFault(f"{place}.strength", f"expected {low:g} to {high:g}, found {fault.strength:g}"))
        if fault.kind in CHANNEL_FAULTS and not fault.path.startswith("/"):
            faults.append(InputFault(f"{place}.path", "expected the absolute path of a file of the machine"))
        if fault.kind in SLOT_FAULTS and fault.slot not in slots:
            expected = f"expected a slot with a module: {', '.join(slots) or 'there is none'}"
            faults.append(InputFault(f"{place}.slot", f"{expected}; found {fault.slot!r}"))
        if not 0 <= fault.at < 1 or not 0 <= fault.bit < 64:
            faults.append(InputFault(place, "expected at from 0 to below 1 and bit from 0 to 63"))
    return faults


def explain(fault: Fault) -> str:
    """Return a fault and its parameters in a sentence."""
    where = f" on core {fault.core}" if fault.kind in CORE_FAULTS else ""
    if fault.kind in SLOT_FAULTS:
        where = f" in {fault.slot}, {fault.at * 100:.0f} % up, bit {fault.bit}"
    if fault.kind in CHANNEL_FAULTS:
        where = f" {fault.path}, after {fault.after_s:g} s"
    means = STRENGTH_MEANS[fault.kind]
    return f"{fault.kind.value}{where}" + ("" if means == "not used" else f": {fault.strength:g}, {means}")


def load_scenario(path: Path) -> Scenario:
    """Read a scenario file. Raises InputError."""
    return parse_scenario(read_text_file(path), str(path))


def shipped_scenarios() -> dict[str, Path]:
    """Return the scenarios that come with the program, by name."""
    folder = Path(__file__).parent / "scenarios"
    return {path.stem: path for path in sorted(folder.glob("*.toml"))}
