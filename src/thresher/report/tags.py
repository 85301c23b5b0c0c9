"""Tags for the parts of a job, to be printed, cut and tied to them, so that none is taken for another."""

from dataclasses import dataclass

from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import Book


@dataclass(frozen=True, slots=True)
class Tag:
    """One tag: the code in large letters, what the part is, whose, where it sat, and what is known of it by now."""

    code: str
    kind: PartKind
    name: str
    whose: str
    place: str
    status: PartStatus


def tags_of(book: Book, statuses: dict[str, PartStatus], owner: str) -> tuple[Tag, ...]:
    """Return a tag for each part of the machine and for each of the shop's that was installed, in the book's order.

    `statuses` is by tag and by kind of part, as the verdict reports them; `owner` names the machine or its owner.
    """
    used = {tag for trial in book.trials for tag in trial.configuration.tags}
    first = book.trials[0].configuration if book.trials else None
    tags = []
    for part in book.parts:
        if part.known_good and part.tag not in used:
            continue
        whose = "ours, known good" if part.known_good else owner
        place = first.place_of(part.tag) if first is not None else ""
        by_kind = PartStatus.UNTESTED if part.known_good else statuses.get(part.kind.value, PartStatus.UNTESTED)
        status = statuses.get(part.tag, by_kind)
        tags.append(Tag(part.tag, part.kind, part.name or part.kind.value, whose, place, status))
    return tuple(tags)
