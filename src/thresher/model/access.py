"""What this program may do on this computer, and what would be gained by more: in words for a person."""

from enum import StrEnum
from typing import Protocol, runtime_checkable

import msgspec

from thresher.privileged.allowlist import Right

ASK = "THRESHER_ASK"
"""In the environment: a person is asked for full access before a machine is read."""


class AccessLevel(StrEnum):
    """How much of the machine can be read and tested."""

    FULL = "full access"
    PARTIAL = "partial access"
    NONE = "no access"


class Allowed(StrEnum):
    """Whether a right is there: it is, a person may be asked for it, or the rules of this computer do not give it."""

    YES = "yes"
    ASK = "ask"
    NO = "no"


RIGHT_WORDS = {
    Right.READ: (
        "what hardware and kernel report",
        "memory modules and serial numbers, power by energy counters, clocks that were really reached, what holds them "
        "down, the kernel log, traced hardware errors, firmware records, the kernel's last words",
    ),
    Right.DRIVES: ("drive commands", "health, error logs and self-tests of every drive"),
    Right.CONTENTS: ("reading whole drives", "scans for sectors that cannot be read"),
    Right.MEMORY: (
        "places in memory modules",
        "physical addresses of wrong words and the module they are in; memory stays locked while it is tested",
    ),
    Right.WATCHDOG: ("hardware watchdog", "a machine that freezes in the night is reset, and the run goes on"),
    Right.RESTART: ("going on after a crash", "a run goes on after the next start, also when nobody logs in"),
}
"""For each right: what it is for short, and what it brings."""


class AccessItem(msgspec.Struct, frozen=True):
    """One right: what it is, what it brings, and whether it is there."""

    right: str
    words: str
    brings: str
    allowed: Allowed


class Access(msgspec.Struct, frozen=True):
    """All rights together. `why` says why the access helper cannot be asked, empty when it can or need not be."""

    level: AccessLevel = AccessLevel.FULL
    items: tuple[AccessItem, ...] = ()
    why: str = ""

    @property
    def missing(self) -> tuple[AccessItem, ...]:
        """The rights that are not there."""
        return tuple(each for each in self.items if each.allowed is not Allowed.YES)

    @property
    def can_ask(self) -> bool:
        """Whether a person can be asked for what is missing."""
        return any(each.allowed is Allowed.ASK for each in self.items)

    @property
    def sentence(self) -> str:
        """Say it in one line, with what is missing."""
        if self.level is not AccessLevel.PARTIAL:
            return self.level.value
        return f"{self.level.value} (missing: {', '.join(each.words for each in self.missing)})"


def access_of(allowed: dict[Right, Allowed], why: str = "") -> Access:
    """Return all rights together, by what is allowed of each."""
    items = tuple(AccessItem(right.value, *RIGHT_WORDS[right], allowed.get(right, Allowed.NO)) for right in Right)
    there = sum(each.allowed is Allowed.YES for each in items)
    level = AccessLevel.FULL if there == len(items) else AccessLevel.PARTIAL if there else AccessLevel.NONE
    return Access(level, items, why)


@runtime_checkable
class AskableAccess(Protocol):
    """A machine on which this program may be allowed more: this computer."""

    def access(self) -> Access:
        """Return what is allowed now. It may block for seconds."""
        ...

    def ask_access(self) -> Access:
        """Have a person asked for everything, and return what is allowed then. It blocks until that person answers."""
        ...
