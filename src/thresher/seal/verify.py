"""Checking a seal: whether job and report are still what was sealed, and if not, which run, row or sentence differs."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import zip_longest

import msgspec

from thresher.journal.jobfile import JobFile
from thresher.seal.keys import Keyring, fingerprint, is_signed
from thresher.seal.seal import ROW_MARK, Seal, Sealed, Sentence, digest_of_run, digest_of_text

_MOST_ROWS_NAMED = 5


class Signer(StrEnum):
    """Whose key a seal was signed with."""

    THIS_SHOP = "this shop"
    EARLIER_KEY = "an earlier key of this shop"
    KNOWN_SHOP = "another shop whose key is known"
    UNKNOWN = "a key that is not known here"


@dataclass(frozen=True, slots=True)
class Checked:
    """What came of checking a seal: `faults` is empty when everything that it covers is unchanged.

    `notes` are what else a reader should know: whose key it is, what was added since, what was not looked at.
    """

    code: str
    wall: float
    signer: Signer
    faults: tuple[str, ...]
    notes: tuple[str, ...]
    covers: str = ""

    @property
    def valid(self) -> bool:
        """Whether everything that could be compared is unchanged."""
        return not self.faults


def signer_of(public: str, keys: Keyring) -> Signer:
    """Return whose key a public key is."""
    if public in keys.present:
        return Signer.THIS_SHOP
    key = keys.known.of(public)
    if key is None:
        return Signer.UNKNOWN
    return Signer.EARLIER_KEY if key.own else Signer.KNOWN_SHOP


def covered_words(sealed: Sealed) -> str:
    """Say what a seal covers."""
    runs = len([each for each in sealed.runs if each.run])
    counts = ((runs, "run"), (sealed.rows, "row"), (sealed.findings, "finding"), (len(sealed.sentences), "sentence"))
    return ", ".join(f"{count:,} {word}{'' if count == 1 else 's'}" for count, word in counts)


def check_signature(seal: Seal, keys: Keyring) -> Checked:
    """Check a seal by itself: whether its signature is that of its key over its text, and whose key that is."""
    signer = signer_of(seal.public, keys)
    if not is_signed(seal.body.encode(), seal.signature, seal.public):
        fault = "the seal itself: its signature does not match; the seal was changed or made up"
        return Checked(seal.code, 0.0, signer, (fault,), ())
    try:
        sealed = seal.sealed
    except msgspec.MsgspecError:
        return Checked(seal.code, 0.0, signer, ("the seal itself: it is of another format",), ())
    name = keys.known.of(seal.public)
    notes = {
        Signer.THIS_SHOP: "signed with this shop's key",
        Signer.EARLIER_KEY: "signed with an earlier key of this shop",
        Signer.KNOWN_SHOP: f"signed by {name.name if name is not None else 'another shop'}",
        Signer.UNKNOWN: f"signed with a key that is not known here (fingerprint {fingerprint(seal.public)}):"
        " ask that shop for its fingerprint before you trust it",
    }
    return Checked(seal.code, sealed.wall, signer, (), (notes[signer],), covered_words(sealed))


def job_faults(stored: JobFile, sealed: Sealed) -> tuple[str, ...]:
    """Return what differs between a job and what was sealed of it, run by run, with rows where they can be named."""
    marks = stored.sealed_rows()
    faults: list[str] = []
    for each in sealed.runs:
        rows, digest, present = digest_of_run(stored, each.run, sealed.last_mark)
        if (rows, digest) == (each.rows, each.digest):
            continue
        where = f"run {each.run} ({each.title})" if each.run else "entries outside of runs"
        if not rows:
            faults.append(f"{where}: it is missing")
            continue
        named = _changed_rows(stored, each.run, sealed.last_mark, present, marks.get(each.run))
        count = f", {each.rows} rows were sealed and {rows} are there" if rows != each.rows else ""
        faults.append(f"{where}: {named or 'what it holds was changed'}{count}")
    return tuple(faults)


def _changed_rows(stored: JobFile, run: int, last_mark: int, present: bytes, sealed: bytes | None) -> str:
    """Name the rows whose digests differ from those that were kept; empty when none were kept or those are wrong."""
    if sealed is None:
        return ""
    now = [present[place : place + ROW_MARK] for place in range(0, len(present), ROW_MARK)]
    then = [sealed[place : place + ROW_MARK] for place in range(0, len(sealed), ROW_MARK)]
    if len(now) != len(then):
        first = next(place for place, (a, b) in enumerate(zip_longest(now, then)) if a != b)
        differ = [first]
    else:
        differ = [place for place, (a, b) in enumerate(zip(now, then, strict=True)) if a != b]
    if not differ:
        return ""
    names = {place: row.name for place, row in enumerate(stored.canonical_rows(run, last_mark)) if place in set(differ)}
    shown = [names.get(place, "the last rows") for place in differ[:_MOST_ROWS_NAMED]]
    more = f" and {len(differ) - len(shown)} more" if len(differ) > len(shown) else ""
    if len(now) != len(then):
        return f"it differs from {shown[0]} on"
    return f"{', '.join(shown)}{more} {'was' if len(differ) == 1 else 'were'} changed"


def sentence_faults(sentences: Sequence[Sentence], sealed: Sealed) -> tuple[str, ...]:
    """Return which sentences of a report are not those that were sealed."""
    there = dict(sentences)
    faults = []
    for each in sealed.sentences:
        text = there.pop(each.name, None)
        if text is None:
            faults.append(f"“{each.name}”: it is missing from the report")
        elif digest_of_text(sealed.salt, text) != each.digest:
            faults.append(f"“{each.name}”: its text was changed")
    return (*faults, *(f"“{name}”: it was added after the report was sealed" for name in there))


def check_job(stored: JobFile, keys: Keyring, most: int | None = None) -> tuple[Checked, ...]:
    """Check the seals of a job, the newest first; with `most` only so many of them."""
    found = []
    for seal in list(reversed(stored.seals(Seal)))[:most]:
        checked = check_signature(seal, keys)
        if checked.valid:
            sealed = seal.sealed
            notes = list(checked.notes)
            added = stored.entries_after(sealed.last_mark)
            later = len([run for run in stored.runs() if run.number not in {each.run for each in sealed.runs}])
            if later:
                words = "1 run came after it and is" if later == 1 else f"{later} runs came after it and are"
                notes.append(f"{words} not covered")
            elif added:
                notes.append("entries were added after it; they have their own date and are not covered")
            faults = job_faults(stored, sealed)
            checked = Checked(checked.code, checked.wall, checked.signer, faults, tuple(notes), checked.covers)
        found.append(checked)
    return tuple(found)
