"""Run sheets on the bench: chosen by name, proposed, the shop's own."""

from thresher.compose.sheet_file import load_sheet
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.record import Record
from thresher.engine.services.intake import IntakeService
from thresher.engine.services.machine import MachineService
from thresher.model.errors import InputError, InputFault
from thresher.model.sheet import RunSheet
from thresher.protocol.events import IntakeEvent


class SheetService:
    """Puts run sheets on the bench and keeps the shop's own."""

    def __init__(self, record: Record, conductor: Conductor, intake: IntakeService, machine: MachineService) -> None:
        """Serve one bench."""
        self._record = record
        self._conductor = conductor
        self._intake = intake
        self._machine = machine

    def put(self, sheet: RunSheet) -> None:
        """Put a sheet on the bench, to be started. Raises EnvironmentFault while a run is in progress."""
        self._conductor.put_sheet(sheet)

    def choose(self, name: str) -> None:
        """Put a sheet on the bench, one that ships or the shop's own.

        Raises InputError for an unknown name, EnvironmentFault during a run.
        """
        path = self._intake.sheet_path(name)
        if path is None:
            raise InputError("run sheet", [InputFault("name", f"there is no sheet {name!r}")])
        self.put(load_sheet(path))

    def put_proposed(self) -> None:
        """Put the sheet on the bench that fits best what is known now."""
        best = next(iter(self._machine.intake().offers), None)
        if best is not None and not best.trouble:
            self.choose(best.name)

    def keep(self, name: str) -> str:
        """Keep a copy of a sheet as the shop's own and return its path. Raises InputError, EnvironmentFault."""
        path = self._intake.keep_sheet(name)
        self._record.publish(IntakeEvent(self._machine.intake()))
        return str(path)

    def reload(self) -> None:
        """Reload the shop's own sheets, after they were changed in an editor."""
        self._intake.reload_sheets()
        self._record.publish(IntakeEvent(self._machine.intake()))
