"""Run sheets on the bench: chosen by name, proposed, edited, the shop's own."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from thresher.compose.announce import announcement, warnings
from thresher.compose.fitting import fitted
from thresher.compose.rounds import named_checks, plan_round, round_sheet
from thresher.compose.sheet_faults import Bench, DriveOnBench, sheet_faults
from thresher.compose.sheet_file import load_sheet, parse_sheet
from thresher.compose.sheet_text import sheet_text
from thresher.drives.reading import seconds_to_read
from thresher.engine.card_jobs.access import CardAccess
from thresher.engine.drive_jobs.access import DriveAccess
from thresher.engine.run.changes import RunChanges
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.kernels import KernelReport
from thresher.engine.run.questions import QuestionDesk
from thresher.engine.run.record import Record
from thresher.engine.run.stand_in import has_person
from thresher.engine.services.intake import OWN, IntakeService
from thresher.engine.services.machine import MachineService
from thresher.loads.memory.free import free_memory
from thresher.loads.registry import SHEET_LOADS
from thresher.machine.mounts import Mount, scratch_mounts
from thresher.model.channels import watched_temperatures
from thresher.model.checks import Round
from thresher.model.errors import EnvironmentFault, InputError, InputFault, SourceUnavailable, ThresherError
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.port import System, SystemKind
from thresher.model.sheet import RunSheet
from thresher.protocol.answers import SheetCheck, SheetFile
from thresher.protocol.events import IntakeEvent
from thresher.shop.own_sheets import delete_sheet, note_use, read_sheet_file, save_sheet


class SheetService:
    """Puts run sheets on the bench, checks drafts, and keeps the shop's own."""

    def __init__(
        self,
        system: System,
        record: Record,
        conductor: Conductor,
        intake: IntakeService,
        machine: MachineService,
        kernels: KernelReport,
        drives: DriveAccess,
        cards: CardAccess,
        draft: RunSheet | None,
        questions: QuestionDesk,
    ) -> None:
        """Serve one bench; `draft` is what was being edited when the job was open last."""
        self._system = system
        self._record = record
        self._conductor = conductor
        self._intake = intake
        self._machine = machine
        self._kernels = kernels
        self._drives, self._cards, self._questions = drives, cards, questions
        self.draft = draft
        self._on_bench = ""

    # ---- what stands on the bench

    def put(self, sheet: RunSheet, name: str = "") -> None:
        """Put a sheet on the bench, to be started; `name` is its own one if it has any.

        Raises InputError with everything that this machine does not have for it, EnvironmentFault while a run is in
        progress. On a machine that runs no loads a sheet may lie on the bench; `start` says why it cannot run.
        """
        faults = sheet_faults(sheet, replace(self.bench(), no_loads={}))
        if faults:
            raise InputError("run sheet", [InputFault(fault.place(sheet), fault.message) for fault in faults])
        self._conductor.put_sheet(sheet)
        self._on_bench = name

    def put_round(self, kind: Round, parts: Sequence[PartKind], checks: Sequence[str], times: int) -> None:
        """Put a round on the bench: checks by name, else one of the rounds, over parts of some kinds or all.

        Raises InputError for an unknown check, EnvironmentFault during a run.
        """
        if checks:
            named = named_checks(checks)
            self.put(
                round_sheet(
                    named[0].name[:1].upper() + named[0].name[1:] if len(named) == 1 else "Chosen checks",
                    named,
                    self._record.inventory,
                    times,
                )
            )
            return
        plan = plan_round(kind, self._record.inventory, parts, self._questions.attended or has_person(self._system))
        words = f" of {', '.join(each.word for each in parts)}" if parts else " of every part"
        self.put(round_sheet(f"{kind.value.capitalize()} round{words}", plan.checks, self._record.inventory, times))
        for check, why in plan.left_out:
            if check.has_subject(self._record.inventory):
                self._record.note(f"{check.name} left out", why, part=check.row)

    def choose(self, name: str) -> None:
        """Put a sheet on the bench, one that ships or the shop's own.

        Raises InputError for an unknown name, EnvironmentFault during a run.
        """
        sheet, kinds = load_sheet(self._path(name)), {part.kind for part in self._record.inventory.parts}
        self.put(fitted(sheet, kinds), name)

    def put_proposed(self) -> None:
        """Put the sheet on the bench that fits best what is known now."""
        best = next(iter(self._machine.intake().offers), None)
        if best is not None and not best.trouble:
            self.choose(best.name)

    def started(self) -> None:
        """Keep that the sheet on the bench is started now; a shop folder that cannot be written is reported."""
        shop = self._intake.shop
        if shop is None or not self._on_bench:
            return
        try:
            self._intake.uses = note_use(shop, self._on_bench, self._system.wall())
        except ThresherError as error:
            self._record.note("Cannot write the shop's files", str(error), Severity.WARNING, "X-861")
            return
        self._record.publish(IntakeEvent(self._machine.intake()))

    # ---- editing

    def bench(self) -> Bench:
        """Return what the machine has for a sheet now."""
        cpus = self._record.inventory.cpus
        memory = free_memory(self._system)
        tree = self._system.kind is SystemKind.TREE
        why = "this machine is a directory of files; loads need this computer or a simulated machine"
        state = self._kernels.state()
        slow = not self._system.pacing.paced and state.usable is False
        return Bench(
            frozenset(cpu.core for cpu in cpus),
            len(cpus),
            memory.total,
            dict.fromkeys(SHEET_LOADS, why) if tree else {},
            memory.available,
            f"loads run in NumPy and heat less: {state.detail}" if slow else "",
            bool(watched_temperatures(self._machine.channels)),
            self._drives_on_bench(),
            tuple(card.name for card in self._cards.cards()),
        )

    def _drives_on_bench(self) -> tuple[DriveOnBench, ...]:
        mounted = _scratch_mounts(self._system)
        return tuple(
            DriveOnBench(
                name,
                seconds_to_read(self._system, each),
                self._drives.why_dying(name),
                tuple(mount.folder for mount in mounted if name in mount.drives),
            )
            for each in self._drives.drives()
            for name in (each.part.place,)
        )

    def keep_draft(self, sheet: RunSheet) -> SheetCheck:
        """Keep a sheet that is being edited with the job, and return what there is to say about it."""
        bench = self.bench()
        faults = sheet_faults(sheet, bench)
        self.draft = sheet
        self._record.writer.set_draft(sheet)
        cpus = tuple(cpu.core for cpu in self._record.inventory.cpus)
        choices = {"drives": tuple(each.name for each in bench.drives)}
        choices["cards"] = bench.cards
        choices["folder"] = tuple(dict.fromkeys(folder for each in bench.drives for folder in each.folders))
        return SheetCheck(faults, warnings(sheet, bench), sheet.length_s, announcement(sheet, cpus), choices)

    def changes(self) -> RunChanges:
        """Return what changes the run in progress. Raises EnvironmentFault when there is none."""
        return self._conductor.changing(self.bench())

    # ---- files

    def open(self, name: str) -> SheetFile:
        """Read a sheet by name, to begin with it. Raises InputError."""
        path = self._path(name)
        text, digest = read_sheet_file(path)
        return SheetFile(name, name.startswith(OWN), parse_sheet(text, str(path)), digest)

    def save(self, sheet: RunSheet, name: str, digest: str) -> SheetFile:
        """Save a sheet as the shop's own, as a new one where `name` is empty. Raises InputError, EnvironmentFault."""
        text = sheet_text(sheet)
        parse_sheet(text, "run sheet")
        path = save_sheet(self._shop("saving a run sheet"), sheet.title, text, name.removeprefix(OWN), digest)
        return self._changed(path)

    def rename(self, name: str, title: str) -> SheetFile:
        """Give a sheet of the shop another title. Raises InputError, EnvironmentFault."""
        self._check_own(name)
        there = self.open(name)
        return self.save(replace(there.sheet, title=" ".join(title.split())), name, there.digest)

    def delete(self, name: str) -> str:
        """Move a sheet of the shop among the deleted ones and return where it is. Raises InputError."""
        self._check_own(name)
        place = delete_sheet(self._shop("deleting a run sheet"), name.removeprefix(OWN))
        self.reload()
        return str(place)

    def keep(self, name: str) -> str:
        """Keep a copy of a sheet as the shop's own and return its path. Raises InputError, EnvironmentFault."""
        path = self._intake.keep_sheet(name)
        self._record.publish(IntakeEvent(self._machine.intake()))
        return str(path)

    def reload(self) -> None:
        """Reload the shop's own sheets, after they were changed in an editor."""
        self._intake.reload_sheets()
        self._record.publish(IntakeEvent(self._machine.intake()))

    def _changed(self, path: Path) -> SheetFile:
        self.reload()
        return self.open(OWN + path.stem)

    def _path(self, name: str) -> Path:
        path = self._intake.sheet_path(name)
        if path is None:
            raise InputError("run sheet", [InputFault("name", f"there is no sheet {name!r}")])
        return path

    def _shop(self, doing: str) -> Path:
        if self._intake.shop is None:
            raise EnvironmentFault(doing, "this bench has no shop folder", "Start the window normally.")
        return self._intake.shop

    def _check_own(self, name: str) -> None:
        if not name.startswith(OWN):
            raise InputError("run sheet", [InputFault("name", f"{name!r} is not one of the shop's own")])


def _scratch_mounts(system: System) -> tuple[Mount, ...]:
    """Return where scratch files may be made on this computer; a simulated machine has no mounts."""
    if system.kind is not SystemKind.LIVE:
        return ()
    try:
        return scratch_mounts()
    except SourceUnavailable:
        return ()  # the folder can still be typed
