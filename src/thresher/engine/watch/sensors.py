"""What sensors give away while they are read: alarms of their own, slowness, and readings that cannot be trusted."""

from thresher.engine.run.record import Record
from thresher.model.channels import SensorDoubt, Tick
from thresher.model.findings import Severity
from thresher.model.port import System
from thresher.sensors.alarms import AlarmReader, find_alarms
from thresher.sensors.running_sanity import RunningSanity
from thresher.sensors.sampler import Sampler


class SensorWatch:
    """Looks at every tick and at the chips' alarm bits, and writes what they say on the tape."""

    def __init__(self, system: System, record: Record, sampler: Sampler) -> None:
        """Watch over the channels of a sampler."""
        self._record = record
        self._sampler = sampler
        self._sanity = RunningSanity(sampler.channels)
        self._alarms = AlarmReader(system, find_alarms(system))
        self._slow_reported: set[str] = set()

    def look(self, tick: Tick) -> list[SensorDoubt]:
        """Report alarms and slow channels, and return the doubts that this tick raises."""
        doubts = self._sanity.look(tick)
        never_set: list[str] = []
        for change in self._alarms.look(tick.at):
            bit = change.bit
            if bit.fault and change.on:
                doubts.append(SensorDoubt("X-836", bit.channel, "Sensor reports itself faulty", f"{bit.path} is set"))
            elif change.first and not bit.limits_set:
                never_set.append(bit.name)
            elif change.first:
                detail = f"it was on when the bench was opened ({bit.path})"
                self._record.note(f"Alarm of {bit.name}", detail, Severity.WARNING, "X-835")
            else:
                words = "came on" if change.on else "went off"
                severity = Severity.WARNING if change.on else Severity.NOTE
                self._record.note(f"Alarm of {bit.name} {words}", bit.path, severity, "X-835")
        if never_set:
            many = "1 alarm bit" if len(never_set) == 1 else f"{len(never_set)} alarm bits"
            names = ", ".join(never_set)
            self._record.note(
                f"{many} without a limit", f"nobody set these limits for this board: {names}", code="X-835"
            )
        for name, period in self._sampler.slow_channels():
            if name not in self._slow_reported:
                self._slow_reported.add(name)
                detail = f"slow to answer, so it is read every {period:.1f} s; in between the last reading is shown"
                self._record.note(f"{name} is slow", detail)
        return doubts

    def close(self) -> None:
        """Close the alarm bits."""
        self._alarms.close()
