"""What the Evidence lists: groups of the job's findings, those from before, and what was decoded."""

from dataclasses import dataclass

from thresher.decoding.groups import EventGroup, Grouper
from thresher.decoding.recognise import Decoded, DecodedThing, Tables, thing_of_group, thing_of_job_group
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor
from thresher.ui.state import BenchState


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the list: a thing, and its group where it is one; `foreign` when it is not in the job yet."""

    thing: DecodedThing
    group: EventGroup | None
    foreign: bool

    @property
    def part(self) -> PartKind | None:
        """The part it points at most, None when at none."""
        if self.group is not None:
            return self.group.part
        return max(self.thing.shares, key=lambda each: each.share).part if self.thing.shares else None

    @property
    def severity(self) -> Severity:
        """How bad it is."""
        if self.group is not None:
            return Severity.NOTE if self.group.noise else self.group.severity
        return Severity.WARNING if self.thing.findings else Severity.NOTE

    def holds(self, words: str) -> bool:
        """Whether every word of a filter is in it, in any case."""
        group = self.group
        text = " ".join(
            (
                self.thing.code,
                self.thing.title,
                self.thing.words,
                self.part.value if self.part else "",
                group.place if group else "",
                " ".join(group.loads) if group else "",
            )
        ).lower()
        return all(word in text for word in words.lower().split())


class JobGroups:
    """Groups of the job's findings, kept up as findings come."""

    def __init__(self, state: BenchState, tables: Tables) -> None:
        """Nothing is grouped yet."""
        self._state = state
        self._tables = tables
        self._grouper = Grouper(tables.codes)
        self._last: object = None
        self._count = 0

    def update(self) -> bool:
        """Take in new findings; return whether there were any, or some were undone."""
        findings, count = self._state.findings, self._count
        last = findings[count - 1] if 0 < count <= len(findings) else None
        grown = count <= len(findings) and last is self._last
        if grown and len(findings) == count:
            return False
        if not grown:
            self._grouper, self._count = Grouper(self._tables.codes), 0
        self._grouper.add_all(findings[self._count :])
        self._count = len(findings)
        self._last = findings[-1] if findings else None
        return True

    def groups(self) -> list[EventGroup]:
        """Return the groups, faults first, then the newest first."""
        return self._grouper.groups()


def entries_of_groups(groups: list[EventGroup], vendor: Vendor, tables: Tables, foreign: bool) -> list[Entry]:
    """Return the entries of groups; registers are drawn where their raw lines hold them."""
    return [Entry(thing_of_job_group(group, vendor, tables), group, foreign) for group in groups]


def entries_of_decoded(decoded: Decoded, tables: Tables) -> list[Entry]:
    """Return the entries of what was decoded; the things of a log come in the order of its groups."""
    groups = list(decoded.log.groups) if decoded.log is not None else []
    entries = []
    for number, thing in enumerate(decoded.things):
        group = groups[number] if number < len(groups) and thing.what == "group" else None
        entries.append(Entry(thing, group, bool(thing.findings)))
    entries += [Entry(thing_of_group(group, tables), group, True) for group in groups[len(decoded.things) :]]
    return entries
