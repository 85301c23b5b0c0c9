"""Workers that do no beat: whose fault that is, and when a core is to be accused of it."""

import time
from typing import TYPE_CHECKING

from thresher.engine.run.record import Record
from thresher.engine.run.run import Run
from thresher.engine.run.team_findings import finding_of_hang
from thresher.loads.team.team import Team
from thresher.model.findings import Severity
from thresher.model.parts import Inventory
from thresher.model.port import System

if TYPE_CHECKING:
    from thresher.engine.run.load_step import LoadStep
    from thresher.engine.run.run import Run

_STALLED_S = 10.0
_LOOK_AGAIN_S = 5.0


class StallWatch:
    """Looks for workers that stop and writes them on the tape."""

    def __init__(self, system: System, record: Record) -> None:
        """Watch over one machine."""
        self._system = system
        self._record = record

    def look(self, run: "Run", team: Team, inventory: Inventory) -> None:
        """Report workers that do no beat; only what the system cannot explain is assigned to their core."""
        pids = team.pids()
        for cpu in set(team.stalled(_STALLED_S)) - run.stalls_reported:
            now, before = time.monotonic(), run.stall_looks.get(cpu)
            if cpu not in pids or (before is not None and now - before < _LOOK_AGAIN_S):
                continue
            why = run.run_times.look(pids[cpu])
            run.stall_looks[cpu] = now
            if before is None:  # the first look only remembers how long its process had run
                detail = f"no beat for {_STALLED_S:.0f} s"
                self._record.note(f"Worker on CPU {cpu} stalled", detail, Severity.WARNING, "X-810")
            elif why:
                run.stalls_reported.add(cpu)
                self._record.note(f"Worker on CPU {cpu} is still stalled", why, Severity.WARNING, "X-810")
            else:
                self._report(run, cpu, inventory)

    def look_simulated(self, run: "Run", step: "LoadStep", at: float) -> None:
        """Report cores of a simulated machine that do no beat for long, by its own clock."""
        hung = self._system.pacing.hung_cpus() & set(step.team.cpus() if step.team else ())
        step.hung_since = {cpu: step.hung_since.get(cpu, at) for cpu in hung}
        for cpu, since in step.hung_since.items():
            if at - since >= _STALLED_S and cpu not in run.stalls_reported:
                self._report(run, cpu, self._record.inventory)

    def _report(self, run: "Run", cpu: int, inventory: Inventory) -> None:
        run.stalls_reported.add(cpu)
        detail = f"no beat on CPU {cpu} for {_STALLED_S:.0f} s while the others run"
        self._record.find(finding_of_hang(cpu, inventory, detail, self._system.now()))
