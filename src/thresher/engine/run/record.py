"""The record of a job while it is in progress: findings, tape and journal, and whoever listens."""

import logging
import re
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import replace

from thresher.engine.run.run import Run
from thresher.engine.run.team_findings import with_circumstances
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.checks import CheckOutcome, CheckResult
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding, FindingKind, Severity, TapeEntry
from thresher.model.parts import Inventory, PartKind
from thresher.model.port import System
from thresher.protocol.events import CheckEvent, EngineEvent, FindingEvent, TapeEvent

_LOG = logging.getLogger(__name__)
KEEP_TAPE = 2_000
_OF_CORES = re.compile(r"(?i)\bv?core\b|\bvddcr?\b|\bcpu (core )?v")
_STALL_S = 3.0
"""A drive that takes longer for a row of a few hundred bytes has trouble of its own."""


def temperature_at(
    channels: tuple[Channel, ...],
    tick: Tick | None,
    core: int | None = None,
    part: PartKind = PartKind.PROCESSOR,
) -> float | None:
    """Return the temperature of a core in °C at a tick, the hottest of the processor where it reports none of its own.

    For another `part` it is the hottest of its kind. Readings that are ignored do not count; None when nothing is
    reported.
    """
    if tick is None:
        return None
    reported = [
        (channel.core, value)
        for channel, value in zip(channels, tick.values, strict=True)
        if channel.quantity is Quantity.TEMPERATURE
        and channel.kind is part
        and not channel.distrust
        and value is not None
    ]
    own = next((value for mine, value in reported if core is not None and mine == core), None)
    return own if own is not None else max((value for _, value in reported), default=None)


class Record:
    """Puts everything that happens where it belongs: journal first, then tape, then the listeners."""

    def __init__(
        self, system: System, writer: JournalWriter, inventory: Inventory, channels: tuple[Channel, ...]
    ) -> None:
        """Start with nothing recorded and no run."""
        self._system = system
        self.inventory = inventory
        self.channels = channels
        self._trouble_reported: str | None = None
        self._refused_reported = 0
        self._stall_reported = False
        self._stall_longest = 0.0
        self.writer = writer
        self.listeners: list[Callable[[EngineEvent], None]] = []
        self.tape: deque[TapeEntry] = deque(maxlen=KEEP_TAPE)
        self.findings: list[Finding] = []
        self.check_results: list[CheckResult] = []
        self.run: Run | None = None
        self.tick: Tick | None = None
        self.changed = True
        self.published = 0

    def publish(self, event: EngineEvent) -> None:
        """Pass an event to all listeners, counted, so that a late listener knows what it has missed."""
        self.published += 1
        for listener in list(self.listeners):
            listener(event)

    def note(
        self, title: str, detail: str, severity: Severity = Severity.NOTE, code: str = "", part: PartKind | None = None
    ) -> None:
        """Write a line on the tape now."""
        self.write(TapeEntry(self._system.now(), None, title, detail, severity, code, part))

    def write(self, entry: TapeEntry) -> TapeEntry:
        """Put an entry on the tape and into the journal, with its time in the run, and return it so."""
        if entry.run_at is None and self.run is not None:
            entry = replace(entry, run_at=self.run.run_at(entry.at))
        self.tape.append(entry)
        self.writer.add_mark(self.run.number if self.run else None, entry.at, "tape", entry)
        self.publish(TapeEvent(entry))
        return entry

    def find(self, finding: Finding) -> None:
        """Record a finding with the circumstances that it came under."""
        run = self.run if self.run is not None and self.run.active else None
        items = [step.block for step in run.running() if step.block is not None] if run else []
        # beside each other, what memory shows belongs to the memory load and the rest to the processor's
        items.sort(key=lambda item: item.row is not finding.part)
        placed = with_circumstances(
            finding,
            run.run_at(finding.at) if run else None,
            items[0].load if items else "",
            self._temperature_of(finding),
            self._clock_of(finding.core),
            self._core_voltage(),
        )
        placed = replace(placed, run=self.run_number())
        self.add(placed, placed.run)
        self.write(
            TapeEntry(placed.at, placed.run_at, placed.title, placed.detail, placed.severity, placed.code, placed.part)
        )

    def add(self, finding: Finding, run: int | None = None) -> None:
        """Keep a finding as it is, in a run or in none."""
        self.findings.append(finding)
        self.writer.add_mark(run, finding.at, "finding", finding)
        self.publish(FindingEvent(finding))
        self.changed = True

    def checked(self, result: CheckResult) -> None:
        """Keep the result of a component check, and say it."""
        self.check_results.append(result)
        self.writer.add_mark(result.run, result.at, "check result", result)
        self.publish(CheckEvent(result))
        severity = Severity.WARNING if result.outcome is CheckOutcome.FAIL else Severity.NOTE
        self.note(f"{result.title}: {result.outcome.value}", result.why, severity, result.code, result.row)
        self.changed = True

    def check_idle(self, tried: str) -> None:
        """Raise EnvironmentFault while a run is in progress."""
        if self.run_number() is not None:
            raise EnvironmentFault(tried, "a run is in progress", "Stop it first, or wait for its end.")

    def run_number(self) -> int | None:
        """Return the number of the run in progress, None outside one."""
        return self.run.number if self.run is not None and self.run.active else None

    def hottest(self) -> float | None:
        """Return the hottest processor temperature of the newest tick in °C."""
        return temperature_at(self.channels, self.tick)

    def check_journal(self) -> None:
        """Say when the job file stops being written, and when it is written again."""
        health = self.writer.health()
        trouble = health.trouble
        if health.refused > self._refused_reported:
            where = f"kept in {health.refused_in}" if health.refused_in is not None else "they could be kept nowhere"
            detail = f"{health.refused} so far, {where}: {health.why_refused}. This is a bug of this program"
            self._refused_reported = health.refused
            self.note("The job file refuses rows", detail, Severity.WARNING, "X-821")
        if trouble and trouble != self._trouble_reported:
            _LOG.warning("cannot write %s: %s", self.writer.path, trouble)
            detail = f"{trouble}; rows wait in memory ({self.writer.path})"
            self.note("Cannot write the job file", detail, Severity.WARNING, "X-820")
        elif self._trouble_reported and not trouble:
            self.note("Writing the job file again", "nothing was lost")
        self._trouble_reported = trouble
        stalled = trouble is None and health.stalled_s >= _STALL_S
        if stalled and not self._stall_reported:
            detail = f"rows wait for {_STALL_S:.0f} s and more ({self.writer.path}); they are kept in memory meanwhile"
            title, at = "The drive with the job file stalls", self._system.now()
            self.find(
                Finding(
                    "D-410", FindingKind.DRIVE_STALL, Severity.WARNING, PartKind.DRIVE, at, title, detail, "job file"
                )
            )
        elif self._stall_reported and not stalled:
            self.note(
                "The drive with the job file responds again", f"after {self._stall_longest:.0f} s; nothing was lost"
            )
            self._stall_longest = 0.0
        self._stall_reported = stalled
        self._stall_longest = max(self._stall_longest, health.stalled_s) if stalled else 0.0

    def report_waiting(self) -> None:
        """Say at the end of a run what of it is not in the job file because that cannot be written."""
        health = self.writer.health()
        if health.trouble:
            detail = f"{health.waiting} rows wait in memory: {health.trouble}; make room before you close the bench"
            self.note("The job file is not complete", detail, Severity.WARNING, "X-820")

    def _clock_of(self, core: int | None) -> float | None:
        """Return the newest clock of a core in MHz, that which the processor counts before that which is set."""
        clocks = [
            (not channel.key.startswith("counters/"), value * 1000.0 if channel.unit == "GHz" else value)
            for channel, value in self._newest(Quantity.CLOCK)
            if channel.core == core and core is not None
        ]
        return min(clocks)[1] if clocks else None

    def _core_voltage(self) -> float | None:
        """Return the newest reading of the channel that by its name is the processor's own voltage, in V."""
        return next(
            (value for channel, value in self._newest(Quantity.VOLTAGE) if _OF_CORES.search(channel.name)), None
        )

    def _newest(self, quantity: Quantity) -> Iterator[tuple[Channel, float]]:
        if self.tick is None:
            return
        for channel, value in zip(self.channels, self.tick.values, strict=True):
            if channel.quantity is quantity and not channel.distrust and value is not None:
                yield channel, value

    def _temperature_of(self, finding: Finding) -> float | None:
        """Return how warm the part of a finding is: a card's own temperature for graphics, else the processor's."""
        if finding.part is PartKind.GRAPHICS:
            return temperature_at(self.channels, self.tick, None, PartKind.GRAPHICS)
        return temperature_at(self.channels, self.tick, finding.core)
