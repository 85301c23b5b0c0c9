"""Taking a customer's name out of old jobs: who it was goes, what was found and proved stays, and so do the seals."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from thresher.journal.forgetting import forget_fields
from thresher.journal.jobfile import read_job
from thresher.model.errors import ThresherError
from thresher.model.job import PERSONAL, TEXTS

REMOVED = "[name removed]"
_FREE_TEXTS = ("machine", "words", "symptoms", *TEXTS)
_SHORTEST = 3


@dataclass(frozen=True, slots=True)
class Forgotten:
    """One job: what was removed, how many entries of its record still have the name, or why nothing was done."""

    job: str
    removed: tuple[str, ...] = ()
    still_named: int = 0
    trouble: str = ""


def forget_customer(path: Path) -> Forgotten:
    """Remove the customer's name and contact from a job; where the name stands in a text, `REMOVED` takes its place.

    Entries of the record, such as a note, are covered by seals and stay: they are counted.
    """
    try:
        fields, entries = read_job(path, lambda stored: (stored.job(), stored.entry_texts()))
        names = _names(fields)
        changed = {name: "" for name in PERSONAL if fields.get(name, "").strip()}
        for name in _FREE_TEXTS:
            text = fields.get(name, "")
            without = _without(text, names)
            if without != text:
                changed[name] = without
        if changed:
            forget_fields(path, changed)
    except ThresherError as error:
        return Forgotten(path.stem, trouble=str(error))
    still = sum(_without(text, names) != text for text in entries)
    return Forgotten(path.stem, tuple(changed), still)


def _names(fields: dict[str, str]) -> Sequence[str]:
    """Return what a customer is named by: the whole name, each part of it, and each piece of the contact."""
    whole = [" ".join(fields.get(name, "").split()) for name in PERSONAL]
    parts = [part.strip(".,;") for text in whole for part in re.split(r"[\s,;]+", text)]
    found = [name for name in (*whole, *parts) if len(name) >= _SHORTEST]
    return sorted(dict.fromkeys(found), key=len, reverse=True)


def _without(text: str, names: Sequence[str]) -> str:
    for name in names:
        text = re.sub(rf"(?<!\w){re.escape(name)}(?!\w)", REMOVED, text, flags=re.IGNORECASE)
    return text
