"""A job's own fields, and the symptoms among them."""

from dataclasses import dataclass

JOB_FILE_ENDING = ".thresher"

TEXTS = ("text_summary", "text_wrong", "text_done", "text_watch")
"""Texts of the report that a person may write instead of the proposed ones; empty for those."""

PERSONAL = ("customer", "contact")
"""Fields that hold who the customer is, and nothing else."""

FIELDS = (
    "number",
    "machine",
    *PERSONAL,
    "words",
    "symptoms",
    "minutes",
    "expected_processor",
    "expected_memory",
    "expected_drives",
    "expected_graphics",
    *TEXTS,
)
"""What a person may set. `symptoms` holds a line each, `minutes` the bench time there is."""


@dataclass(frozen=True, slots=True)
class Complaint:
    """A symptom that the customer reports, with when it comes and a note in free words, both empty when not known."""

    text: str
    when: str = ""
    note: str = ""


def parse_complaints(field: str) -> tuple[Complaint, ...]:
    """Parse a job's `symptoms`: a line each, its parts divided by tabs."""
    lines = (line.split("\t") for line in field.split("\n") if line.strip())
    return tuple(Complaint(*(part.strip() for part in line[:3])) for line in lines)


def complaints_field(complaints: tuple[Complaint, ...]) -> str:
    """Return the field that `parse_complaints` reads; tabs and line ends inside a note become spaces."""
    rows = ((each.text, each.when, each.note) for each in complaints)
    return "\n".join("\t".join(" ".join(part.split()) for part in row).rstrip("\t") for row in rows)
