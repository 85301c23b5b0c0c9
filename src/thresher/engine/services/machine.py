"""The machine as it counts now: limits, trust, doubts and idle readings, which take effect everywhere at once."""

import math
from collections.abc import Callable

from thresher.engine.run.record import Record
from thresher.engine.services.intake import IntakeService
from thresher.engine.services.job_fields import JobFields
from thresher.engine.watch.readings import Watchers
from thresher.engine.watch.sensors import SensorWatch
from thresher.journal.rows import ROOM
from thresher.model.channels import Channel, LimitSide, SensorDoubt, Tick
from thresher.model.errors import InputError, InputFault, ThresherError
from thresher.model.findings import Severity
from thresher.model.parts import Doubt, Inventory
from thresher.model.port import System
from thresher.protocol.events import IntakeEvent, MachineEvent
from thresher.protocol.intake import Intake
from thresher.shop.store import ShopPart


class MachineService:
    """Holds the inventory and channels as technician, sensors and last visits have changed them."""

    def __init__(
        self,
        system: System,
        record: Record,
        watchers: Watchers,
        sensors: SensorWatch,
        intake: IntakeService,
        job: JobFields,
    ) -> None:
        """Serve one machine; `apply` has to be called before anything else is asked."""
        self._system = system
        self._record = record
        self._watchers = watchers
        self._sensors = sensors
        self._intake = intake
        self._job = job
        self._machine_kept: Inventory | None = None
        self._doubts_reported: set[Doubt] = set()
        self.channels: tuple[Channel, ...] = ()
        self.inventory: Inventory = intake.found

    def intake(self) -> Intake:
        """Return what the Intake shows beside the machine."""
        return self._intake.intake(self._job.fields, self._job.symptoms)

    def apply(self) -> None:
        """Let limits, trust and doubts as they are now count everywhere."""
        self.channels = self._watchers.channels = self._record.channels = self._intake.channels()
        self.inventory, _ = self._intake.inventory(self._job.fields)
        self._record.inventory = self.inventory
        if self.inventory != self._machine_kept:
            self._machine_kept = self.inventory
            self._record.writer.add_mark(None, self._system.now(), "machine", self.inventory)

    def _apply_and_publish(self) -> None:
        self.apply()
        self._record.changed = True  # what an ignored sensor reported is no evidence
        self._record.publish(MachineEvent(self.inventory, self.channels, self.intake()))

    def report_doubts(self) -> None:
        """Write each doubt about the machine on the tape, once."""
        for doubt in self.inventory.doubts:
            if doubt not in self._doubts_reported:
                self._doubts_reported.add(doubt)
                detail = f"{doubt.part}: {doubt.detail}"
                self._record.note(doubt.title, detail, Severity.WARNING, doubt.code, doubt.kind)

    def expectation_changed(self) -> None:
        """Compare the machine again with what should be in it."""
        self._apply_and_publish()
        self.report_doubts()

    def note_visit(self) -> None:
        """Keep that the machine was here under this job; a shop folder that cannot be written is reported."""
        self._keeping(lambda: self._intake.note_visit(self._job.fields.get("number", "")))

    def _named(self, channel: str) -> Channel:
        found = next((each for each in self.channels if each.key == channel), None)
        if found is None:
            raise InputError("channel", [InputFault(channel, "this machine has no such channel")])
        return found

    def set_limit(self, channel: str, side: LimitSide, value: float | None, reason: str) -> None:
        """Set the technician's limit on a channel, or remove it with None. Raises InputError, EnvironmentFault."""
        self._record.check_idle("changing a limit")
        named = self._named(channel)
        self._intake.set_limit(channel, side, value, reason)
        what = "removed" if value is None else f"{side.value} {value:g} {named.unit}, {reason}"
        self._record.note(f"Limit of {named.name} changed", what)
        self._apply_and_publish()

    def set_room(self, run: int, celsius: float) -> None:
        """Keep the room temperature during a run in °C. Raises InputError."""
        if not math.isfinite(celsius) or not -30.0 <= celsius <= 60.0:
            raise InputError("room temperature", [InputFault("celsius", f"expected -30 to 60 °C, found {celsius:g}")])
        self._record.writer.add_mark(run, self._system.now(), ROOM, {"celsius": celsius})
        self._record.note(f"Room temperature of run {run}: {celsius:g} °C", "typed in by the technician")

    def set_trust(self, channel: str, trusted: bool, reason: str) -> None:
        """Trust or ignore a sensor. Raises InputError, EnvironmentFault."""
        self._record.check_idle("changing which sensors are trusted")
        named = self._named(channel)
        self._intake.set_trust(channel, trusted, reason)
        word = "trusted" if trusted else "ignored"
        self._record.note(f"{named.name} {word}", reason or "set by the technician; kept with this machine")
        self._apply_and_publish()

    def set_shelf(self, parts: tuple[ShopPart, ...]) -> None:
        """Keep the shop's shelf. Raises InputError, EnvironmentFault."""
        self._intake.set_shelf(parts)
        self._record.publish(IntakeEvent(self.intake()))

    def begin_baseline(self, seconds: float) -> None:
        """Take idle readings from now on. Raises InputError, and EnvironmentFault while a run is in progress."""
        self._record.check_idle("taking idle readings")
        self._intake.begin_baseline(seconds)
        self._record.publish(IntakeEvent(self.intake()))

    def drop_baseline(self) -> None:
        """Cancel idle readings because a load begins."""
        if self._intake.drop_baseline():
            self._record.note("Idle readings cancelled", "a load begins", Severity.WARNING)
            self._record.publish(IntakeEvent(self.intake()))

    # ---- once a tick

    def follow(self, tick: Tick) -> None:
        """Take a tick into the idle readings, and ignore sensors that this tick proves wrong."""
        self._take_idle(tick)
        for doubt in self._sensors.look(tick):
            self._doubt(doubt, tick.at)

    def _doubt(self, doubt: SensorDoubt, at: float) -> None:
        names = {channel.key: channel.name for channel in self.channels}
        if doubt.channel not in names or not self._intake.doubt(doubt):
            return
        why = f"{names[doubt.channel]}: {doubt.detail}; ignored from now on"
        self._record.note(doubt.title, why, Severity.WARNING, doubt.code)
        body = {"channel": doubt.channel, "why": f"{doubt.title}: {doubt.detail}"}
        self._record.writer.add_mark(self._record.run_number(), at, "distrust", body)
        self._apply_and_publish()

    def _take_idle(self, tick: Tick) -> None:
        baseline = self._intake.take(tick)
        if baseline is None:
            return
        self._keeping(lambda: self._intake.keep_baseline(baseline))
        odd = f"{len(baseline.doubts)} odd" if baseline.doubts else "nothing odd"
        self._record.writer.add_mark(None, tick.at, "baseline", baseline)
        taken = f"{len(baseline.readings)} channels in {baseline.seconds:.0f} s, {odd}"
        self._record.note("Idle readings taken", taken)
        names = {channel.key: channel.name for channel in self.channels}
        for doubt in baseline.doubts:
            detail = f"{names.get(doubt.channel, doubt.channel)}: {doubt.detail}"
            self._record.note(doubt.title, detail, Severity.WARNING, doubt.code)
        self._apply_and_publish()

    def _keeping(self, action: Callable[[], None]) -> None:
        """Do something that writes a file of the shop; if that fails, report it and continue."""
        try:
            action()
        except ThresherError as error:
            self._record.note("Cannot write the shop's files", str(error), Severity.WARNING, "X-861")
