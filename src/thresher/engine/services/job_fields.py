"""The fields of the job on the bench, shared by the services."""

from dataclasses import dataclass, field

from thresher.model.job import parse_complaints


@dataclass(slots=True)
class JobFields:
    """The fields of the job as they are now, and the symptoms among them."""

    fields: dict[str, str]
    symptoms: tuple[str, ...] = field(default=())

    def __post_init__(self) -> None:
        """Take the symptoms from the fields."""
        self.symptoms = tuple(each.text for each in parse_complaints(self.fields.get("symptoms", "")))
