"""Scenario files: which machine a bench model is and what ails it (`thresher-bench-model/1`, TOML)."""

from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from thresher.model.errors import InputError, InputFault
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys

FORMAT = "thresher-bench-model/1"


class FaultKind(StrEnum):
    """What can be wrong with a bench model."""

    WEAK_CORE = "weak core"
    CLOGGED_HEATSINK = "clogged heatsink"
    DEAD_FAN = "dead fan"
    SAGGING_SUPPLY = "sagging supply"
    CHANNEL_VANISHES = "channel vanishes"
    CHANNEL_GARBAGE = "channel garbage"
    CHANNEL_STUCK = "channel stuck"
    CHANNEL_OFFSET = "channel offset"
    CHANNEL_JUMPS = "channel jumps"


CHANNEL_FAULTS = (
    FaultKind.CHANNEL_VANISHES, FaultKind.CHANNEL_GARBAGE, FaultKind.CHANNEL_STUCK, FaultKind.CHANNEL_OFFSET,
    FaultKind.CHANNEL_JUMPS,
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """One fault. `strength` means, by kind: weak core, signs a minute at full load and 90 °C; clogged heatsink,
    share of its conductance lost; sagging supply, ohms of source resistance; channel offset and channel jumps, what is
    added to the number in the file, by the latter for every third second. `path` and `after_s` belong to the channel
    faults: the file, and seconds after the model starts.
    """

    kind: FaultKind
    strength: float = 1.0
    core: int = 0
    path: str = ""
    after_s: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorSpec:
    """The processor of a bench model: clocks in MHz, power in W, temperature in °C."""

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
    """A drive: its kernel name, model and size in bytes."""

    name: str
    model: str
    serial: str
    firmware: str
    size_bytes: int
    idle_c: float = 38.0


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
    """A graphics card and its idle temperature in °C."""

    name: str
    memory_gib: int
    idle_c: float = 41.0


@dataclass(frozen=True, slots=True)
class Scenario:
    """A whole bench model: `speed` is how fast its clock runs unless told otherwise."""

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


_SECTIONS = {"format", "processor", "board", "memory", "drives", "graphics", "faults"}


def parse_scenario(text: str, source: str) -> Scenario:
    """Parse and check a scenario. Raises InputError with every fault found."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    head_keys = set(_Head.__dataclass_fields__)
    unknown_keys(data, _SECTIONS | head_keys, faults)
    head = convert_section({k: v for k, v in data.items() if k in head_keys}, _Head, "", faults)
    processor = convert_section(data.get("processor", {}), ProcessorSpec, "processor", faults)
    board = convert_section(data.get("board", {}), BoardSpec, "board", faults)
    modules = convert_list(data, "memory", ModuleSpec, faults)
    drives = convert_list(data, "drives", DriveSpec, faults)
    graphics = convert_list(data, "graphics", GraphicsSpec, faults)
    ailments = convert_list(data, "faults", Fault, faults)
    if head is None or processor is None or board is None:
        raise InputError(source, faults)
    faults += _check_head(head) + _check_processor(processor) + _check_faults(ailments, processor)
    faults += [
        InputFault(f"memory[{index}].slot", f"{module.slot!r} is not one of the board's slots {', '.join(board.slots)}")
        for index, module in enumerate(modules)
        if module.slot not in board.slots
    ]
    if faults:
        raise InputError(source, faults)
    return Scenario(
        title=head.title, machine=head.machine, seed=head.seed, speed=head.speed, ambient_c=head.ambient_c,
        start=head.start, processor=processor, board=board, modules=tuple(modules), drives=tuple(drives),
        graphics=tuple(graphics), faults=tuple(ailments), supply=head.supply, cooler=head.cooler,
        symptoms=head.symptoms, job=head.job,
    )  # fmt: skip


def _check_head(head: _Head) -> list[InputFault]:
    faults = []
    if not 0.1 <= head.speed <= 10_000:
        faults.append(InputFault("speed", f"expected 0.1 to 10000, found {head.speed}"))
    if not -20 <= head.ambient_c <= 60:
        faults.append(InputFault("ambient_c", f"expected -20 to 60, found {head.ambient_c}"))
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


def _check_faults(ailments: list[Fault], processor: ProcessorSpec) -> list[InputFault]:
    faults = []
    for index, fault in enumerate(ailments):
        if fault.kind is FaultKind.WEAK_CORE and not 0 <= fault.core < processor.cores:
            faults.append(
                InputFault(f"faults[{index}].core", f"expected 0 to {processor.cores - 1}, found {fault.core}")
            )
        if fault.kind is FaultKind.CLOGGED_HEATSINK and not 0 < fault.strength < 1:
            faults.append(InputFault(f"faults[{index}].strength", f"expected between 0 and 1, found {fault.strength}"))
        if fault.kind in CHANNEL_FAULTS and not fault.path.startswith("/"):
            faults.append(InputFault(f"faults[{index}].path", "expected the absolute path of a file of the machine"))
    return faults


def load_scenario(path: Path) -> Scenario:
    """Read a scenario file. Raises InputError."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(str(path), [InputFault("file", str(error))]) from error
    return parse_scenario(text, str(path))


def shipped_scenarios() -> dict[str, Path]:
    """Return the scenarios that come with the program, by name."""
    folder = Path(__file__).parent / "scenarios"
    return {path.stem: path for path in sorted(folder.glob("*.toml"))}
