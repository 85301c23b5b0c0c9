"""Starts and ends in the journal of an installed Linux system, from the log service's own start and stop messages.

Message identifiers: systemd, sd-messages.h: journal started f77379a8…, stopped d93fb3c9…; both come in the initial
system too, so the last of them in a boot decides.
"""

import json
from collections.abc import Iterable
from dataclasses import dataclass

from thresher.system_logs.event_log import TimelineEntry
from thresher.system_logs.meanings import TimelineKind

STARTED = "f77379a8490b408bbe5f6940505a777b"
STOPPED = "d93fb3c9c24d451a97cea615ce59c00b"


@dataclass(slots=True)
class _Boot:
    began: float
    last: float
    stopped: bool = False


def command_for(folder: str) -> list[str]:
    """Return the command that prints those messages of a folder of journals, oldest first (journalctl(1))."""
    matches = [f"MESSAGE_ID={STARTED}", f"MESSAGE_ID={STOPPED}"]
    return ["journalctl", f"--directory={folder}", "--output=json", "--no-pager", "--quiet", *matches]


def boots_of(lines: Iterable[str]) -> tuple[TimelineEntry, ...]:
    """Return starts and ends; the end of the newest boot is left out, since it may be the present one or unknown."""
    boots: dict[str, _Boot] = {}
    for line in lines:
        try:
            entry = json.loads(line)
            boot, at, kind = entry["_BOOT_ID"], float(entry["__REALTIME_TIMESTAMP"]) / 1e6, entry["MESSAGE_ID"]
        except (ValueError, KeyError, TypeError):
            continue
        known = boots.setdefault(boot, _Boot(at, at))
        known.last = max(known.last, at)
        known.stopped = kind == STOPPED
    ordered = sorted(boots.values(), key=lambda each: each.began)
    events: list[TimelineEntry] = []
    for number, boot_seen in enumerate(ordered):
        events.append(TimelineEntry(boot_seen.began, TimelineKind.START, "Start"))
        if number + 1 == len(ordered):
            break
        if boot_seen.stopped:
            events.append(TimelineEntry(boot_seen.last, TimelineKind.CLEAN_SHUTDOWN, "Clean shutdown"))
        else:
            at = ordered[number + 1].began
            events.append(TimelineEntry(at, TimelineKind.SUDDEN_END, "Previous shutdown was unexpected"))
    return tuple(events)
