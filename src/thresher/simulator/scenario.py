"""Scenario files: which machine a simulated machine is and what is wrong with it (`thresher-scenario/1`, TOML)."""

from dataclasses import dataclass
from pathlib import Path

from thresher.model.errors import InputError, InputFault
from thresher.model.parts import BuiltInKind
from thresher.model.regular_file import read_text_file
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys
from thresher.simulator.fault_kinds import CHANNEL_FAULTS, CORE_FAULTS, SLOT_FAULTS, STRENGTH_MEANS, Fault, FaultKind

FORMAT = "thresher-scenario/1"
_OLDER_FORMATS = ("thresher-bench-model/1",)


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
    machine with batteries gives, 0 when it is pulled out; `driven_fans` says whether its board lets fans be driven,
    `watchdog` whether it has a hardware watchdog.
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
    watchdog: bool = False
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
    watchdog: bool = False


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
        watchdog=head.watchdog,
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
    FaultKind.DRY_PASTE: (0.001, 0.999),
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
    if fault.kind is FaultKind.BAD_SLOT:
        where = f" {fault.slot}, bit {fault.bit}"
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
