"""The job on the bench: its fields and symptoms, the other jobs beside it, and a new one for the same machine."""

from collections.abc import Callable

from thresher.diagnosis.knowledge import Knowledge
from thresher.engine.run.record import Record
from thresher.engine.services.intake import IntakeService, check_job_fields
from thresher.engine.services.job_fields import JobFields
from thresher.engine.services.jobs import list_jobs, new_job
from thresher.engine.services.machine import MachineService
from thresher.model.errors import InputError, InputFault
from thresher.model.job import FIELDS, parse_complaints
from thresher.protocol.answers import SymptomChoice
from thresher.protocol.events import IntakeEvent, JobEvent
from thresher.protocol.intake import Intake, JobCard

_SETTLE_S = 0.5


class JobService:
    """Keeps the fields of one job and lists the jobs of its folder."""

    def __init__(
        self, record: Record, job: JobFields, intake: IntakeService, machine: MachineService, knowledge: Knowledge
    ) -> None:
        """Serve the job that the record writes to."""
        self._record = record
        self._job = job
        self._intake = intake
        self._machine = machine
        self._knowledge = knowledge

    @property
    def fields(self) -> dict[str, str]:
        """The job's fields."""
        return self._job.fields

    @property
    def symptoms(self) -> tuple[str, ...]:
        """The symptoms that the customer reports."""
        return self._job.symptoms

    @property
    def symptom_choices(self) -> tuple[SymptomChoice, ...]:
        """All symptoms that the knowledge base knows."""
        return tuple(SymptomChoice(each.text, each.group) for each in self._knowledge.symptoms)

    def intake(self) -> Intake:
        """Return what the Intake shows beside the machine."""
        return self._intake.intake(self.fields, self.symptoms)

    def publish_intake(self) -> None:
        """Announce what the Intake shows now."""
        self._record.publish(IntakeEvent(self.intake()))

    def set_fields(self, fields: dict[str, str]) -> None:
        """Set fields of the job. Raises InputError for fields that a job does not have and for unknown symptoms."""
        symptoms = tuple(each.text for each in parse_complaints(fields.get("symptoms", "")))
        self._check(fields, symptoms)
        changed = {name for name, value in fields.items() if self.fields.get(name, "") != value}
        self._job.fields = self.fields | fields
        if "symptoms" in fields and symptoms != self.symptoms:
            self._job.symptoms = symptoms
            self._record.changed = True
        self._record.writer.set_job(fields)
        self._record.publish(JobEvent(self.fields, self.symptoms))
        if "number" in changed:
            self._machine.note_visit()
        if any(name.startswith("expected_") for name in changed):
            self._machine.expectation_changed()
        elif changed & {"symptoms", "minutes"}:
            self.publish_intake()

    def _check(self, fields: dict[str, str], symptoms: tuple[str, ...]) -> None:
        faults = [InputFault(name, f"a job has {', '.join(FIELDS)}") for name in fields if name not in FIELDS]
        known = {symptom.text for symptom in self._knowledge.symptoms}
        faults += [InputFault("symptoms", f"{text!r} is not known") for text in symptoms if text not in known]
        faults += check_job_fields(fields)
        if faults:
            raise InputError("job", faults)

    def settle(self) -> None:
        """Wait a moment until what was typed is in the job file, unless a run is under way."""
        if self._record.run_number() is None:
            self._record.writer.settle(_SETTLE_S)

    def cards(self) -> tuple[JobCard, ...]:
        """Return the jobs in the folder of this one, the current one first, then the newest.

        It opens the files of other jobs, which may be damaged or on a dying drive: never on the engine's thread.
        """
        path = self._record.writer.path
        return list_jobs(path.parent, path)

    def prepare_new(self) -> Callable[[], str]:
        """Return what makes a new job beside this one for the same machine, and returns its path.

        That looks into the other jobs for their numbers: never on the engine's thread. Both raise EnvironmentFault.
        """
        self._record.check_idle("starting another job")
        self._record.writer.settle(_SETTLE_S)
        path = self._record.writer.path
        fields = {name: self.fields[name] for name in ("model", "machine") if self.fields.get(name)}
        return lambda: str(new_job(path.parent, path, fields | {"symptoms": ""}))
