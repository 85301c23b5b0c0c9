"""How a simulated machine comes to a sudden end, and what it leaves behind for the start after it, in the real formats.

A fault that ends the machine says in what way; `StoredBoots` then writes what a real one would: the log service's
stored lines of that boot, the kernel's last words where systemd puts them, the status of a watchdog. The texts are
those of the kernel (kernel/panic.c, drivers/thermal/thermal_core.c) and of systemd's manager and login manager.
"""

from dataclasses import dataclass, field

import numpy as np

from thresher.model.endings import EndingKind, SeenAtEnd
from thresher.model.keeping_port import HeldOff
from thresher.model.port import LogLine
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.files import FileTable

K, E = FaultKind, EndingKind

ENDS_AS: dict[FaultKind, tuple[tuple[EndingKind, float], ...]] = {
    K.RESETS: ((E.RESET, 0.55), (E.POWER_OFF, 0.45)),
    K.SAGGING_SUPPLY: ((E.POWER_OFF, 0.6), (E.RESET, 0.4)),
    K.BOARD_SUPPLY: ((E.RESET, 0.6), (E.FREEZE, 0.25), (E.POWER_OFF, 0.15)),
    K.BOARD_CUTS: ((E.RESET, 0.6), (E.FREEZE, 0.25), (E.POWER_OFF, 0.15)),
    K.CRASHING_CORE: ((E.FREEZE, 0.4), (E.RESET, 0.3), (E.PANIC, 0.3)),
    K.CRASHING_MEMORY: ((E.PANIC, 0.55), (E.FREEZE, 0.25), (E.RESET, 0.2)),
    K.CRASHING_SYSTEM: ((E.PANIC, 0.5), (E.FREEZE, 0.4), (E.RESET, 0.1)),
    K.OVERHEATS: ((E.HEAT, 0.7), (E.POWER_OFF, 0.3)),
    K.FREEZES: ((E.FREEZE, 1.0),),
    K.PANICS: ((E.PANIC, 1.0),),
    K.SWITCHES_OFF: ((E.POWER_OFF, 1.0),),
}
"""In what ways each fault ends a machine, with shares."""

_OFF_S: dict[EndingKind, tuple[float, float]] = {
    E.RESET: (9.0, 40.0),
    E.PANIC: (14.0, 50.0),
    E.FREEZE: (240.0, 3_000.0),
    E.POWER_OFF: (200.0, 2_400.0),
    E.HEAT: (300.0, 2_400.0),
}
"""How long the machine is down: what starts by itself comes back at once, for the rest somebody has to come."""
_NEEDS_COLD_START = (E.POWER_OFF, E.HEAT)
_SEEN: dict[EndingKind, SeenAtEnd] = {
    E.RESET: SeenAtEnd.STARTED_AGAIN,
    E.PANIC: SeenAtEnd.TEXT_OF_A_PANIC,
    E.FREEZE: SeenAtEnd.STOOD_STILL,
    E.POWER_OFF: SeenAtEnd.WAS_OFF,
    E.HEAT: SeenAtEnd.WAS_OFF,
}
_SOMEBODY_LOOKED = 0.7
_CARD_RESET = 32


@dataclass(slots=True)
class StoredBoots:
    """All boots of a simulated machine: which one it is in, what is stored of those before."""

    seed: int
    files: FileTable
    rng: np.random.Generator
    began_wall: float
    number: int = 0
    off_s: float = 0.0
    ended_wall: float = 0.0
    ended_boot: str = ""
    watchdog: bool = False
    stored: dict[str, tuple[LogLine, ...]] = field(default_factory=dict)
    seen: SeenAtEnd = SeenAtEnd.NOBODY_LOOKED

    def boot_id(self) -> str:
        """Return the name of the present boot."""
        return f"00000000-0000-4000-8{self.number:03x}-{self.seed:012x}"

    def end(self, kind: EndingKind, lines: list[LogLine], at: float, wall: float) -> float:
        """Let the boot end in a way, with the lines that its log has; return for how many seconds it is off."""
        low, high = _OFF_S[kind]
        off_s = 30.0 if kind is E.FREEZE and self.watchdog else float(self.rng.uniform(low, high))
        extra: list[LogLine] = []
        if kind is E.HEAT:
            extra = [
                LogLine(wall, at, "kernel", "thermal thermal_zone0: acpitz: critical temperature reached"),
                LogLine(wall, at, "kernel", "reboot: HARDWARE PROTECTION shutdown (Temperature too high)"),
                LogLine(wall + 0.4, at + 0.4, "systemd-logind", "System is powering down."),
                LogLine(wall + 2.1, at + 2.1, "systemd", "Reached target poweroff.target - System Power Off."),
                LogLine(wall + 2.2, at + 2.2, "systemd-journald", "Journal stopped"),
            ]
        if kind is E.PANIC:
            self._leave_last_words(at)
        status = _CARD_RESET if kind is E.FREEZE and self.watchdog else 0
        self.files.add("/sys/class/watchdog/watchdog0/bootstatus", f"{status}\n")
        self.ended_wall, self.ended_boot = wall, self.boot_id()
        self.stored[self.ended_boot] = (*lines, *extra)
        self.number += 1
        self.off_s += off_s
        self.began_wall = wall + off_s
        self.seen = _SEEN[kind] if self.rng.random() < _SOMEBODY_LOOKED else SeenAtEnd.NOBODY_LOOKED
        return off_s

    def _leave_last_words(self, at: float) -> None:
        text = (
            f"Panic#1 Part1\n<4>[{at - 0.01:12.6f}] CPU: 3 PID: 4711 Comm: thresher Tainted: G      D\n"
            f"<0>[{at:12.6f}] Kernel panic - not syncing: Fatal exception\n"
        )
        self.files.add(f"/var/lib/systemd/pstore/17{self.number:08d}/dmesg.txt", text)


class SimulatedWatchdog:
    """The watchdog of a simulated machine."""

    name = "bench watchdog"

    def __init__(self, timeout_s: float, boots: StoredBoots) -> None:
        """Arm it."""
        self.timeout_s = timeout_s
        self._boots = boots
        boots.watchdog = True

    def feed(self) -> str:
        """It can always be fed."""
        return ""

    def close(self) -> str:
        """Switch it off."""
        self._boots.watchdog = False
        return ""


class SimulatedAwake:
    """A simulated machine never sleeps."""

    def news(self) -> tuple[HeldOff, ...]:
        """Nothing is ever refused."""
        return ()

    def close(self) -> None:
        """Nothing is given back."""


def loses_power(kind: EndingKind) -> bool:
    """Whether the drives count a power cycle after such an end."""
    return kind in _NEEDS_COLD_START


def way_of(kind: FaultKind, rng: np.random.Generator) -> EndingKind:
    """Draw in what way a fault ends the machine this time."""
    ways = ENDS_AS[kind]
    return ways[int(rng.choice(len(ways), p=[share for _, share in ways]))][0]
