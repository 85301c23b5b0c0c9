"""What the window knows: the engine's snapshot kept up to date by its events, and the history for drawing.

Widgets read it and repaint when `refreshed` comes, at most ten times a second however fast events arrive.
"""

from collections import Counter

import msgspec
import numpy as np
import numpy.typing as npt
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from thresher.model.channels import Channel, LimitSide, Quantity, Tick
from thresher.model.checks import CheckResult, together
from thresher.model.endings import MachineEnding
from thresher.model.findings import Finding, TapeEntry, findings_of_run
from thresher.model.parts import Doubt, Inventory, Part, PartKind, PartStatus
from thresher.model.run_states import RunState
from thresher.model.sheet import RunSheet
from thresher.model.trials import EMPTY_BOOK
from thresher.model.verdict import Verdict
from thresher.protocol.answers import HistoryRows, Snapshot
from thresher.protocol.events import (
    AccessEvent,
    BookEvent,
    CheckEvent,
    DecisionsEvent,
    EndingsEvent,
    EngineEvent,
    FindingEvent,
    FindingsEvent,
    GoingOnEvent,
    IntakeEvent,
    JobEvent,
    MachineEvent,
    PlanEvent,
    QuestionEvent,
    ScanEvent,
    TapeEvent,
    TickEvent,
    VerdictEvent,
)
from thresher.protocol.intake import Intake
from thresher.protocol.status import EngineHealth, RunStatus, ScanStatus
from thresher.sensors.extremes import Extremes, Headroom, closest
from thresher.sensors.lanes import Lane, choose_lanes
from thresher.sensors.pyramid import Pyramid

REFRESH_MS = 100


class BenchState(QObject):
    """The state of one bench as the window shows it.

    `machine_changed` comes with another machine or job, `limits_changed` when only limits, trust or doubts of the
    same one are other than before, `intake_changed` when anything that the Intake shows is.
    """

    machine_changed = pyqtSignal()
    refreshed = pyqtSignal()
    tape_grew = pyqtSignal()
    limits_changed = pyqtSignal()
    intake_changed = pyqtSignal()
    question_changed = pyqtSignal()
    endings_changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        """Start with nothing known."""
        super().__init__(parent)
        self.snapshot: Snapshot | None = None
        self.run = RunStatus()
        self.health: EngineHealth | None = None
        self.sheet: RunSheet | None = None
        self.job: dict[str, str] = {}
        self.intake = Intake()
        self.book = EMPTY_BOOK
        self.scan: ScanStatus | None = None
        self.checks: list[CheckResult] = []
        self.endings: tuple[MachineEnding, ...] = ()
        self.going_on = GoingOnEvent()
        self.access = AccessEvent()
        self.asked: QuestionEvent | None = None
        self.questions: tuple[str, ...] = ()
        self.decided = DecisionsEvent()
        self._idle_until: float | None = None
        self.symptoms: tuple[str, ...] = ()
        self.verdict: Verdict | None = None
        self.tick: Tick | None = None
        self.extremes = Extremes(0)
        self._extremes_of: int | None = None
        self.tape: list[TapeEntry] = []
        self.findings: list[Finding] = []
        self.lanes: tuple[Lane, ...] = ()
        self.history = Pyramid(0)
        self.trouble = ""
        self.trouble_is_news = False
        self._run_findings: list[Finding] = []
        self._hits: Counter[int] = Counter()
        self._sorted_for: tuple[object, ...] = ()
        self._early: list[Tick] = []
        self._history_complete = False
        self._dirty = False
        self._timer = QTimer(self)
        self._timer.setInterval(REFRESH_MS)
        self._timer.timeout.connect(self._refresh)
        self._timer.start()

    @property
    def channels(self) -> tuple[Channel, ...]:
        """All channels of the machine."""
        return self.snapshot.channels if self.snapshot else ()

    @property
    def active(self) -> bool:
        """Whether a run is in progress."""
        return self.run.state not in (RunState.IDLE, RunState.ENDED)

    @property
    def origin(self) -> float:
        """Machine time that stands at 0 on the time axis: the run's start, or now when there is none."""
        if self.run.began_at is not None:
            return self.run.began_at
        span = self.history.span
        return span[1] if span else 0.0

    @property
    def machine_now(self) -> float:
        """Machine time of the newest reading, in seconds."""
        return self._newest()

    @property
    def now(self) -> float:
        """Where now is on the time axis in seconds."""
        if self.run.state is RunState.ENDED and self.run.began_at is not None and self.snapshot is not None:
            return self.run.run_at if self.snapshot.kind == "stored job" else self._newest() - self.origin
        return self._newest() - self.origin

    def _newest(self) -> float:
        span = self.history.span
        return span[1] if span else self.origin

    def take_snapshot(self, snapshot: Snapshot) -> None:
        """Start over with what an engine reports."""
        self.snapshot = snapshot
        self.run, self.health = snapshot.run, snapshot.health
        self.sheet, self.verdict = snapshot.sheet, snapshot.verdict
        self.job, self.symptoms = snapshot.job, snapshot.symptoms
        self.book, self.questions, self.decided = snapshot.book, snapshot.questions, snapshot.decided
        self.scan = snapshot.scan
        self.checks, self.asked = [*snapshot.checks_before, *snapshot.checks], snapshot.asked
        self.endings, self.going_on = snapshot.endings, snapshot.going_on
        self.access = snapshot.access
        self.tape, self.findings = list(snapshot.tape), list(snapshot.findings)
        self.lanes = choose_lanes(snapshot.channels)
        self.history = Pyramid(len(snapshot.channels))
        self.extremes, self._extremes_of = Extremes(len(snapshot.channels)), snapshot.run.run
        self.tick, self.trouble = None, ""
        self._sorted_for = ()
        self._early, self._history_complete = [], False
        self.intake = snapshot.intake
        self.machine_changed.emit()
        self._take_intake(snapshot.intake)
        self.tape_grew.emit()
        self._dirty = True

    def take_rows(self, rows: HistoryRows) -> None:
        """Add past ticks; new ones that came meanwhile follow when all are there."""
        width = 4 * len(self.channels)
        if all(len(packed) == width for packed in rows.values):
            values = np.frombuffer(b"".join(rows.values), dtype="<f4").reshape(len(rows.at), len(self.channels))
            self.take_history(np.array(rows.at), values)
        if not rows.more:
            self._history_complete = True
            for tick in self._early:
                self._remember(tick.at, tick.values)
            self._early = []
        self._dirty = True

    def take_history(self, times: npt.NDArray[np.float64], values: npt.NDArray[np.float32]) -> None:
        """Add past ticks: machine times (n), values (n, channels) with NaN for missing."""
        span = self.history.span
        new = times > span[1] if span is not None else np.ones(len(times), dtype=bool)
        self.history.extend(times[new], values[new])
        began = self.run.began_at
        self.extremes.add_rows(values if began is None else values[times >= began])
        if len(times) and self.tick is None:
            last = tuple(None if np.isnan(value) else float(value) for value in values[-1])
            self.tick = Tick(float(times[-1]), 0.0, last, {})
        self._dirty = True

    def take_event(self, event: EngineEvent) -> None:
        """Process an event."""
        match event:
            case TickEvent(tick, run, health):
                self.tick, self.run, self.health = tick, run, health
                self._extend(tick)
                if self._history_complete:
                    self._remember(tick.at, tick.values)
                else:
                    self._early.append(tick)
            case TapeEvent(entry):
                self.tape.append(entry)
                self.tape_grew.emit()
            case FindingEvent() | FindingsEvent() | BookEvent() | DecisionsEvent() | VerdictEvent():
                self._take_evidence(event)
            case PlanEvent(sheet, run):
                self.sheet, self.run = sheet, run
            case JobEvent(job, symptoms):
                self.job, self.symptoms = job, symptoms
            case MachineEvent(machine, channels, intake):
                self._take_machine(machine, channels, intake)
            case IntakeEvent(intake):
                self._take_intake(intake)
            case ScanEvent() | CheckEvent() | QuestionEvent() | EndingsEvent() | GoingOnEvent() | AccessEvent():
                self._take_check(event)
        self._dirty = True

    def _take_check(
        self, event: ScanEvent | CheckEvent | QuestionEvent | EndingsEvent | GoingOnEvent | AccessEvent
    ) -> None:
        if isinstance(event, AccessEvent):
            self.access = event
            return
        if isinstance(event, EndingsEvent | GoingOnEvent):
            if isinstance(event, EndingsEvent):
                self.endings = event.endings
            else:
                self.going_on = event
            self.endings_changed.emit()
            return
        if isinstance(event, ScanEvent):
            self.scan = event.scan
            return
        if isinstance(event, CheckEvent):
            self.checks.append(event.result)
            return
        self.asked = event if event.question is not None else None
        self.question_changed.emit()

    def _take_evidence(self, event: FindingEvent | FindingsEvent | BookEvent | DecisionsEvent | VerdictEvent) -> None:
        if isinstance(event, FindingEvent):
            self.findings.append(event.finding)
        elif isinstance(event, BookEvent):
            self.book, self.questions = event.book, event.questions
        elif isinstance(event, VerdictEvent):
            self.verdict = event.verdict
        elif isinstance(event, DecisionsEvent):
            self.decided = event
        else:
            self.findings = list(event.findings)
            self._sorted_for = ()

    def _take_machine(self, machine: Inventory, channels: tuple[Channel, ...], intake: Intake) -> None:
        """Take other limits, trust or doubts of the same machine; readings and history stay."""
        assert self.snapshot is not None
        self.snapshot = msgspec.structs.replace(self.snapshot, machine=machine, channels=channels)
        self.lanes = choose_lanes(channels)
        self.limits_changed.emit()
        self._take_intake(intake)

    def _take_intake(self, intake: Intake) -> None:
        self.intake = intake
        left = intake.baseline_left_s
        self._idle_until = None if left is None else self._newest() + left
        self.intake_changed.emit()

    def _extend(self, tick: Tick) -> None:
        """Take a tick into the extremes of the run, which start over with each run and stop after it."""
        if self.run.run != self._extremes_of:
            self._extremes_of = self.run.run
            self.extremes = Extremes(len(self.channels))
        if self.active or self.run.run is None:
            self.extremes.add(tick)

    def extremes_text(self, index: int) -> str:
        """Return smallest, mean and largest reading of a channel since the run began, or since the window opened."""
        low, mean, high = (each[index] for each in (self.extremes.minimum, self.extremes.mean, self.extremes.maximum))
        if np.isnan(mean):
            return ""
        channel = self.channels[index]
        digits = 0 if channel.quantity in (Quantity.TEMPERATURE, Quantity.FAN) else 2
        since = f"in run {self._extremes_of}" if self._extremes_of is not None else "so far"
        return f"{since}: {low:.{digits}f} to {high:.{digits}f}, mean {mean:.{digits}f} {channel.unit}"

    def say_trouble(self, text: str) -> None:
        """Show a message of the surroundings until the next one."""
        self.trouble, self.trouble_is_news = text, False
        self._dirty = True

    def say_done(self, text: str) -> None:
        """Show that something was done, where trouble would stand."""
        self.say_trouble(text)
        self.trouble_is_news = True

    def refresh_now(self) -> None:
        """Let widgets repaint at once, for pictures and tests."""
        self._dirty = True
        self._refresh()

    def _remember(self, at: float, values: tuple[float | None, ...]) -> None:
        span = self.history.span
        if span is None or at > span[1]:
            self.history.append(at, np.array([np.nan if value is None else value for value in values]))

    def _refresh(self) -> None:
        if self._dirty:
            self._dirty = False
            self.refreshed.emit()

    # ---- what widgets ask for

    def run_findings(self) -> list[Finding]:
        """Return the findings of the run on the axis; sorted out once, however many widgets ask."""
        key = (len(self.findings), self.run.run)
        if key != self._sorted_for:
            self._run_findings = findings_of_run(self.findings, self.run.run)
            self._hits = Counter(each.core for each in self._run_findings if each.core is not None)
            self._sorted_for = key
        return self._run_findings

    def hits_on(self, core: int) -> int:
        """Return how many findings of the run fell on a core."""
        self.run_findings()
        return self._hits[core]

    def status_of(self, kind: PartKind, tag: str = "") -> PartStatus:
        """Return the status of a kind of part by the newest verdict, or of one part where its tag is given."""
        statuses = self.verdict.statuses if self.verdict else {}
        return statuses.get(tag) or statuses.get(kind.value, PartStatus.UNTESTED)

    def status_of_part(self, part: Part) -> PartStatus:
        """Return the status of one of several parts of a kind: what one slot or drive shows says nothing of another."""
        if part.kind is PartKind.DRIVE:
            return self.status_of(part.kind, self.tag_of(part))
        status = self.status_of(part.kind)
        named = {each.place for each in self.verdict.suspects if each.kind is part.kind} if self.verdict else set()
        named.discard("")
        elsewhere = part.kind in (PartKind.MEMORY, PartKind.GRAPHICS) and named and part.place not in named
        return PartStatus.UNTESTED if elsewhere and status is not PartStatus.CLEARED else status

    def check_of(self, kind: PartKind, place: str = "") -> str:
        """Return how the checks of a kind of part stand in the newest run: coming, under way, an outcome or nothing.

        Where results name places, those of another place say nothing of this one."""
        mine = [item.check for item in self.run.plan if item.check and item.row is kind]
        for words in ("fail", "under way", "coming"):
            if words in mine:
                return words
        ended = [each for each in self.checks if each.row is kind and each.run == self.run.run]
        own = [each for each in ended if place and each.place == place]
        worst = together(own or ended)
        return worst.value if mine and worst is not None else ""

    def idle_left(self) -> float:
        """Return how many seconds of machine time idle readings still take, 0 when none are being taken."""
        if self.intake.baseline_left_s is None or self._idle_until is None:
            return 0.0
        return max(0.0, self._idle_until - self._newest())

    def tag_of(self, part: Part) -> str:
        """Return what is written on a part's tag, empty when it has none."""
        return next((each.tag for each in self.intake.instances if each.part == part.tag), "")

    def doubts_of(self, part: Part) -> list[Doubt]:
        """Return the doubts about a part; one about a whole group stands with the group's first part."""
        machine = self.snapshot.machine if self.snapshot else None
        if machine is None:
            return []
        first = next((each.tag for each in machine.parts_of(part.kind)), "")
        return [
            each
            for each in machine.doubts
            if each.part == part.tag or (each.part == part.kind.value and part.tag == first)
        ]

    def value(self, index: int) -> float | None:
        """Return the newest reading of a channel."""
        return self.tick.values[index] if self.tick and index < len(self.tick.values) else None

    def find_channels(self, quantity: Quantity, kind: PartKind | None = None) -> list[int]:
        """Return the indexes of the channels of a quantity, of one kind of part or of all."""
        return [
            index
            for index, channel in enumerate(self.channels)
            if channel.quantity is quantity and (kind is None or channel.kind is kind)
        ]

    def nearest_limit(self, quantity: Quantity, side: LimitSide) -> Headroom | None:
        """Return the channel of a quantity nearest its limit now."""
        return closest(self.channels, self.tick, quantity, side) if self.tick else None
