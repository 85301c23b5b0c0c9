"""What an end has left behind: read from the machine after it has started again, and put into the terms of `judge`.

Sources: kernel documents admin-guide/pstore-blk, ABI/testing/pstore, watchdog/watchdog-api; systemd-pstore.service(8),
which moves what the kernel left to `/var/lib/systemd/pstore`; the log service's stored log; `btime` of `/proc/stat`
(filesystems/proc, section 1.8).
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from thresher.endings.judge import Seen
from thresher.model.channels import LimitSide, Quantity
from thresher.model.endings import LastMoments, Moment
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact
from thresher.model.port import LogLine, System, optional_text

KEPT = "/sys/fs/pstore"
MOVED = "/var/lib/systemd/pstore"
_WATCHDOGS = "/sys/class/watchdog"
_BACKEND = "/sys/module/pstore/parameters/backend"
_DEEPEST = MOVED.count("/") + 3
MOST_LINES = 400

_CARD_RESET, _OVERHEAT, _POWER = 0x20, 0x01, 0x10 | 0x40
"""WDIOF_CARDRESET, WDIOF_OVERHEAT, WDIOF_POWERUNDER and WDIOF_POWEROVER (kernel document watchdog/watchdog-api)."""

_AT_ONCE_S, _MUCH_LATER_S = 90.0, 180.0
_NEAR_CRITICAL_K = 3.0
_AROUND_S = 90.0
"""Lines of a log that lie so far from the last row may have to do with the end."""
_WENT_ON_S = 10.0
_EMPTY_PERCENT = 6.0

_ORDERLY = re.compile(
    r"Reached target .*(?:Power[ -]?Off|Reboot|Shutdown|Halt)|^Shutting down\.|^Journal stopped"
    r"|System is (?:powering down|rebooting|halting)|Received SIGTERM from PID 1 \(systemd-shutdow",
    re.IGNORECASE,
)
_ASKED = re.compile(
    r"System is (?:powering down|rebooting|halting)|The system (?:will|is going to) (?:power off|reboot)"
)
_POWER_KEY = re.compile(r"Power key pressed", re.IGNORECASE)
_HEAT = re.compile(r"critical temperature reached|HARDWARE PROTECTION shutdown \(Temperature", re.IGNORECASE)
_MEMORY = re.compile(r"[Oo]ut of memory: Killed process (\d+)")
_SESSION = re.compile(r"Session (\S+?) logged out|Removed session (\S+?)\.|Stopping [Ss]ession (\S+) of")
_OWN_SESSION = re.compile(r"/session-([^/]+)\.scope")
_PANIC = re.compile(r"Kernel panic - not syncing.*|Oops: .*|BUG: unable to handle .*")
_KERNEL_TIME = re.compile(r"^(?:<\d+>)?\[\s*(\d+\.\d+)\]", re.MULTILINE)
_CHECK = re.compile(r"\[Hardware Error\]: CPU \d+: Machine Check(?: Exception)?: \w+ Bank \d+: ([0-9a-f]{16})")
_UNCORRECTED = 1 << 61
_HARDWARE = "[Hardware Error]"
_KERNEL_HEAD = re.compile(r"^<\d+>\[\s*\d+\.\d+\] ")
_FIRMWARE = re.compile(r"Previous system reset reason \[0x[0-9a-f]+\]: (.*)")
_FIRMWARE_WORDS = (
    ("thermal", "firmware names heat"),
    ("power button", "firmware names the power button"),
    ("watchdog", "firmware names a watchdog"),
    ("sync flood", "firmware names an error"),
    ("uncorrected", "firmware names an error"),
)


@dataclass(frozen=True, slots=True)
class LeftBehind:
    """What our own files say of a run that nobody ended: clocks of its last row, the process, what was running.

    `boot_wall` is when the boot began that ended, None where no black box was kept. `known_words` are files of last
    words that were there before, `session` is the login session that the program ran in, empty for none.
    """

    boot_id: str
    last_at: float
    last_wall: float
    boot_wall: float | None
    pid: int
    asked_by: int
    moments: LastMoments
    power_cycles: dict[str, int]
    loaded: bool
    watchdog_armed: bool = False
    known_words: tuple[str, ...] = ()
    session: str = ""


@dataclass(frozen=True, slots=True)
class Traces:
    """What the machine says after it has started again.

    `unread` are sources that could not be read, with the reason.
    """

    boot_id: str
    boot_wall: float | None
    log: tuple[LogLine, ...] = ()
    last_words: tuple[str, ...] = ()
    keeps_last_words: bool = False
    started_with: tuple[str, ...] = ()
    watchdogs: dict[str, int] = field(default_factory=dict)
    power_cycles: dict[str, int] = field(default_factory=dict)
    unread: tuple[Fact, ...] = ()


def boot_id_of(system: System) -> str:
    """Return the name of the boot that the machine is in."""
    return optional_text(system, "/proc/sys/kernel/random/boot_id") or "unknown"


def boot_wall_of(system: System) -> float | None:
    """Return the Unix time at which the present boot began, None where the kernel does not say."""
    match = re.search(r"^btime (\d+)$", optional_text(system, "/proc/stat"), re.MULTILINE)
    return float(match[1]) if match else None


def read_traces(
    system: System, left: LeftBehind, started_with: tuple[str, ...], power_cycles: dict[str, int]
) -> Traces:
    """Read everything that speaks about the end; it may take seconds.

    `started_with` are the lines that the kernel logged when it started, `power_cycles` what the drives count now.
    """
    unread: list[Fact] = []
    log: tuple[LogLine, ...] = ()
    try:
        log = system.read_boot_log(left.boot_id, MOST_LINES)
    except SourceUnavailable as error:
        unread.append(Fact("log of the boot that ended", error.reason, error.path))
    return Traces(
        boot_id_of(system),
        boot_wall_of(system),
        log,
        tuple(_last_words(system, left.known_words, unread)),
        optional_text(system, _BACKEND) not in ("", "(null)"),
        started_with,
        dict(_watchdogs(system)),
        power_cycles,
        tuple(unread),
    )


def kept_files(system: System) -> list[str]:
    """Return the files that the kernel's store holds, and those that systemd has moved out of it at a start."""
    found = [f"{KEPT}/{name}" for name in system.list(KEPT)]
    folders = [f"{MOVED}/{name}" for name in system.list(MOVED)]
    for folder in folders:  # a folder a record, and for one in several parts a folder a part in it
        inside = [f"{folder}/{name}" for name in system.list(folder)]
        folders += inside if folder.count("/") < _DEEPEST else []
        found += [] if inside else [folder]
    return found


def last_words_files(system: System) -> list[str]:
    """Return the files in which the kernel's last words are."""
    return [path for path in kept_files(system) if path.rpartition("/")[2].startswith(("dmesg", "console"))]


def _last_words(system: System, known: tuple[str, ...], unread: list[Fact]) -> Iterator[str]:
    for path in last_words_files(system):
        if path in known:
            continue  # of an end before
        try:
            yield system.read(path).decode("utf-8", "replace")
        except SourceUnavailable as error:
            unread.append(Fact("the kernel's last words", error.reason, path))


def _watchdogs(system: System) -> Iterator[tuple[str, int]]:
    for name in system.list(_WATCHDOGS):
        text = optional_text(system, f"{_WATCHDOGS}/{name}/bootstatus")
        if text.isdigit():
            yield name, int(text)


def what_was_seen(left: LeftBehind, traces: Traces) -> tuple[Seen, ...]:
    """Put what was read into the terms of the weights."""
    if traces.boot_id == left.boot_id:
        return (Seen("same boot"), *_of_same_boot(left, traces))
    return (
        Seen("another boot"),
        *_of_log(left, traces),
        *_of_signal(left),
        *_of_last_words(left, traces),
        *_of_start(traces),
        *_of_watchdog(left, traces),
        *_of_temperatures(left),
        *_of_supply(left),
        *_of_gap(left, traces),
        *_of_drives(left, traces),
        Seen("under load" if left.loaded else "without load"),
    )


def _of_same_boot(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    yield from _of_signal(left)
    yield from _of_programs(left, traces)


def _of_signal(left: LeftBehind) -> Iterator[Seen]:
    if left.asked_by:
        yield Seen("asked to end", (("number", float(left.asked_by)),))


def _near(left: LeftBehind, traces: Traces) -> list[LogLine]:
    return [line for line in traces.log if line.at >= left.last_at - _AROUND_S]


def _of_log(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    if not traces.log:
        return
    near = _near(left, traces)
    yield from _of_programs(left, traces)
    heat = next((line for line in near if line.of_kernel and _HEAT.search(line.text)), None)
    if heat is not None:
        yield _line("heat in the log", heat.text)
    key = next((line for line in near if _POWER_KEY.search(line.text)), None)
    if key is not None:
        yield _line("power key", key.text)
    asked = next((line for line in near if _ASKED.search(line.text)), None)
    if asked is not None:
        yield _line("shutdown asked for", asked.text)
    orderly = next((line for line in reversed(near) if _ORDERLY.search(line.text)), None)
    if orderly is not None:
        yield _line("orderly shutdown", orderly.text)
        return
    yield Seen("log breaks off")
    went_on = traces.log[-1].at - left.last_at
    if went_on > _WENT_ON_S:
        yield Seen("log went on", (("seconds", went_on),))


def _of_programs(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    near = _near(left, traces)
    killed = next(
        (line for line in near if (match := _MEMORY.search(line.text)) is not None and int(match[1]) == left.pid), None
    )
    if killed is not None:
        yield _line("memory ran out", killed.text)
    elif traces.log:
        yield Seen("memory held out")
    session = next((line for line in near if left.session and _ends_session(line.text, left.session)), None)
    if session is not None:
        yield _line("session ended", session.text)


def _ends_session(text: str, session: str) -> bool:
    match = _SESSION.search(text)
    return match is not None and session in match.groups()


def own_session(system: System) -> str:
    """Return the login session that this program runs in, by its control group; empty for none (logind)."""
    match = _OWN_SESSION.search(optional_text(system, "/proc/self/cgroup"))
    return match[1] if match else ""


def _line(name: str, text: str) -> Seen:
    return Seen(name, (("line", text.strip()[:160]),))


def belongs(text: str, left: LeftBehind) -> bool:
    """Whether the kernel's last words are of the boot that ended: the last time in them fits our last row."""
    times = _KERNEL_TIME.findall(text)
    return bool(times) and left.last_at - 2 * _AROUND_S <= float(times[-1]) <= left.last_at + 10 * _AROUND_S


def _of_last_words(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    mine = [text for text in traces.last_words if belongs(text, left)]
    panic = next((match for text in mine if (match := _PANIC.search(text)) is not None), None)
    if panic is not None:
        yield _line("last words of a panic", panic[0])
    elif traces.keeps_last_words:
        yield Seen("no last words")


def fatal_checks(lines: tuple[str, ...]) -> list[str]:
    """Return the lines of a start that show an uncorrected machine check from before it."""
    return [line for line in lines if (match := _CHECK.search(line)) and int(match[1], 16) & _UNCORRECTED]


def fatal_lines(traces: Traces, left: LeftBehind) -> tuple[str, ...]:
    """Return the lines about errors of the hardware that the boot before left: in its last words, and at this start."""
    if traces.boot_id == left.boot_id:
        return ()
    of_words = [
        _KERNEL_HEAD.sub("", line)
        for text in traces.last_words
        if belongs(text, left)
        for line in text.splitlines()
        if _HARDWARE in line
    ]
    of_start = [line for line in traces.started_with if _HARDWARE in line] if fatal_checks(traces.started_with) else []
    return (*of_words, *of_start)


def _of_start(traces: Traces) -> Iterator[Seen]:
    for line in fatal_checks(traces.started_with)[:1]:
        yield _line("fatal machine check", line)
    for line in traces.started_with:
        match = _FIRMWARE.search(line)
        name = next((name for words, name in _FIRMWARE_WORDS if match and words in match[1].lower()), None)
        if name is not None:
            yield _line(name, line)


def _watchdog_status(traces: Traces) -> int:
    status = 0
    for each in traces.watchdogs.values():
        status |= each
    return status


def _of_watchdog(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    status = _watchdog_status(traces)
    words = (("status", f"bootstatus {status}"),)
    if status & _CARD_RESET:
        yield Seen("watchdog reset", words)
    elif left.watchdog_armed and traces.watchdogs:
        yield Seen("watchdog silent")
    if status & _OVERHEAT:
        yield Seen("watchdog overheat", words)
    if status & _POWER:
        yield Seen("watchdog power", words)


def _of_temperatures(left: LeftBehind) -> Iterator[Seen]:
    nearest: tuple[float, tuple[tuple[str, str | float], ...]] | None = None
    rows = left.moments.rows[-10:]
    for index, channel in enumerate(left.moments.channels):
        if channel.quantity is not Quantity.TEMPERATURE or channel.distrust:
            continue
        critical = max((each.value for each in channel.limits if each.side is LimitSide.BELOW), default=None)
        readings = [value for row in rows if index < len(row.values) and (value := row.values[index]) is not None]
        if critical is None or not readings:
            continue
        reading = max(readings)
        words = (("channel", channel.name), ("reading", reading), ("limit", critical))
        if nearest is None or critical - reading < nearest[0]:
            nearest = (critical - reading, words)
    if nearest is not None:
        at = "at the critical temperature" if nearest[0] <= _NEAR_CRITICAL_K else "far from the critical temperature"
        yield Seen(at, nearest[1])


def _of_supply(left: LeftBehind) -> Iterator[Seen]:
    channels = left.moments.channels
    mains = next((i for i, each in enumerate(channels) if each.key.startswith("mains/")), None)
    battery = next((i for i, each in enumerate(channels) if each.quantity is Quantity.CHARGE), None)
    last = left.moments.rows[-1] if left.moments.rows else None
    if last is None or battery is None or battery >= len(last.values) or (charge := last.values[battery]) is None:
        return
    away = mains is not None and mains < len(last.values) and last.values[mains] == 0.0
    if away and charge <= _EMPTY_PERCENT:
        yield Seen("battery empty", (("charge", charge),))
    elif charge > _EMPTY_PERCENT:
        yield Seen("battery carries it", (("charge", charge),))
    if away and mains is not None and (since := _went_away(left.moments.rows, mains)) is not None:
        yield Seen("mains away", (("seconds", since),))


def _went_away(rows: tuple[Moment, ...], mains: int) -> float | None:
    """Return for how long mains had been away at the end, None when it was never there in these rows."""
    there = [row.at for row in rows if mains < len(row.values) and row.values[mains] == 1.0]
    return rows[-1].at - there[-1] if there else None


def _of_gap(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    if traces.boot_wall is None or _watchdog_status(traces) & _CARD_RESET:
        return  # a watchdog starts a machine again at once, whatever it did
    gap = traces.boot_wall - left.last_wall
    if gap < 0:
        return  # the clock was set in between: it says nothing
    if gap <= _AT_ONCE_S:
        yield Seen("back at once", (("seconds", gap),))
    elif gap >= _MUCH_LATER_S:
        yield Seen("back much later", (("seconds", gap),))


def _of_drives(left: LeftBehind, traces: Traces) -> Iterator[Seen]:
    both = [serial for serial in left.power_cycles if serial in traces.power_cycles]
    rose = [serial for serial in both if traces.power_cycles[serial] > left.power_cycles[serial]]
    if rose:
        yield Seen("drives lost power", (("drive", f"the drive {rose[0]}"),))
    elif both:
        yield Seen("drives kept power", (("drive", f"the drive {both[0]}"),))
