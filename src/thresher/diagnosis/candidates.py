"""Configurations that can be made from the present one with the parts in the book, and how long each takes."""

from dataclasses import replace

from thresher.model.parts import PartKind
from thresher.model.trials import (
    ALL_SETTINGS,
    ANOTHER_SLOT,
    INSTALLED_SYSTEM,
    Book,
    Candidate,
    Configuration,
)

_SWAP_MINUTES = {
    PartKind.PROCESSOR: 25.0,
    PartKind.MEMORY: 4.0,
    PartKind.GRAPHICS: 8.0,
    PartKind.DRIVE: 8.0,
    PartKind.POWER: 15.0,
    PartKind.BOARD: 60.0,
    PartKind.COOLING: 15.0,
    PartKind.DISPLAY: 4.0,
}
_OTHER_SWAP_MINUTES = 10.0
_SETTINGS_MINUTES = 6.0
_STICK_MINUTES = 5.0
_TREATMENTS = (
    (PartKind.COOLING, "Cleaned", 20.0),
    (PartKind.MEMORY, "Modules reseated", 4.0),
    (PartKind.BOARD, "Cards and plugs reseated", 6.0),
    (PartKind.DRIVE, "Other drive cable", 6.0),
    (PartKind.GRAPHICS, "Graphics card cleaned", 20.0),
    (PartKind.POWER, "Power plugs reseated", 5.0),
    (PartKind.DISPLAY, "Other display cable", 3.0),
)
_MOVES = (
    (PartKind.GRAPHICS, "card slot", "The card in another slot", 8.0),
    (PartKind.DRIVE, "drive port", "The drive on another port", 5.0),
)
"""Parts that can be moved to another place, by what that place is."""


def swap_minutes(book: Book, before: Configuration, after: Configuration) -> float:
    """Return the minutes that it takes to come from one configuration to another, without settings and treatments."""
    out = [part for tag in before.tags if tag not in after.tags and (part := book.part(tag)) is not None]
    into = [part for tag in after.tags if tag not in before.tags and (part := book.part(tag)) is not None]
    kinds = [part.kind for part in out]
    for part in into:  # what comes in for another of its kind is one swap
        if part.kind in kinds:
            kinds.remove(part.kind)
        kinds.append(part.kind)
    return sum(_SWAP_MINUTES.get(kind, _OTHER_SWAP_MINUTES) for kind in kinds)


def candidates(book: Book, configuration: Configuration, crashed: bool = False) -> tuple[Candidate, ...]:
    """Return the configurations that can be made from the present one with the parts in the book.

    One part against another of its kind, one memory module alone, settings to stock, cleaned, reseated, all as it is
    or as it is to be handed back. Treatments can be kept, not undone. A machine that has `crashed` can be run from the
    stick, which rules out the installed system.
    """
    made = [Candidate("The same again", configuration, 0.0)]
    base = book.base
    if base is not None and (set(base.tags), base.places) != (set(configuration.tags), configuration.places):
        # a module that was out has been reseated when it is in again
        out = [part.tag for part in book.parts if part.kind is PartKind.MEMORY and part.tag not in configuration.tags]
        seated = [tag for tag in out if tag in base.tags]
        back = replace(base, treated=tuple(dict.fromkeys((*base.treated, *configuration.treated, *seated))))
        settings = ", settings as they were" if back.stock != configuration.stock else ""
        moved = set(base.tags) == set(configuration.tags)
        title = f"Back in its own slot{settings}" if moved else f"With its own parts again{settings}"
        minutes = _SWAP_MINUTES[PartKind.MEMORY] if moved else swap_minutes(book, configuration, back)
        made.append(Candidate(title, back, minutes))
    elif base is not None and base.stock != configuration.stock:  # to see once more what goes with the settings
        found = replace(configuration, stock=base.stock)
        made.append(Candidate("Settings as they were", found, _SETTINGS_MINUTES))
    made += _swaps(book, configuration)
    if not configuration.stock:
        stock = replace(configuration, stock=ALL_SETTINGS)
        made.append(Candidate("Settings back to stock", stock, _SETTINGS_MINUTES))
    fitted = {part.kind for tag in configuration.tags if (part := book.part(tag)) is not None}
    for kind, title, minutes in _TREATMENTS:
        if kind in fitted and kind.value not in configuration.treated:
            made.append(Candidate(title, replace(configuration, treated=(*configuration.treated, kind.value)), minutes))
    for kind, place, title, minutes in _MOVES:
        if kind in fitted and place not in configuration.treated:
            made.append(Candidate(title, replace(configuration, treated=(*configuration.treated, place)), minutes))
    if crashed and INSTALLED_SYSTEM not in configuration.treated:
        stick = replace(configuration, treated=(*configuration.treated, INSTALLED_SYSTEM))
        made.append(Candidate("From the stick, without the installed system", stick, _STICK_MINUTES))
    return tuple(made)


def _swaps(book: Book, configuration: Configuration) -> list[Candidate]:
    """Return one part against another of its kind, and each of several modules alone."""
    made, fitted = [], [part for tag in configuration.tags if (part := book.part(tag)) is not None]
    for part in fitted:
        for other in book.parts:
            if other.kind is part.kind and other.tag not in configuration.tags:
                swapped = configuration.swapped(part.tag, other.tag)
                made.append(
                    Candidate(
                        f"{other.tag} in place of {part.tag}", swapped, swap_minutes(book, configuration, swapped)
                    )
                )
    return made + _memory_moves(configuration, [part.tag for part in fitted if part.kind is PartKind.MEMORY])


def _memory_moves(configuration: Configuration, modules: list[str]) -> list[Candidate]:
    """Return each of several modules alone, where it is and in another's slot, and modules in other slots.

    A module that is moved has been reseated by that.
    """
    made, minutes = [], _SWAP_MINUTES[PartKind.MEMORY]
    places = {tag: place for place, tag in configuration.places if tag in modules}
    for alone in modules if len(modules) > 1 else ():
        tags = tuple(tag for tag in configuration.tags if tag == alone or tag not in modules)
        made.append(Candidate(f"{alone} alone", _with(configuration, tags), minutes))
        for other in modules:
            if other != alone and alone in places and other in places:
                only = _moved(_with(configuration, tags), {alone: places[other]})
                made.append(Candidate(f"{alone} alone, in slot {places[other]}", only, minutes))
    if len(places) == 2 and len(modules) == 2:
        (one, its), (other, theirs) = places.items()
        swapped = _moved(configuration, {one: theirs, other: its})
        made.append(Candidate(f"{one} and {other} change slots", swapped, minutes))
    if len(places) == 1 and len(modules) == 1 and ANOTHER_SLOT not in places.values():
        moved = _moved(configuration, {modules[0]: ANOTHER_SLOT})
        made.append(Candidate(f"{modules[0]} in another slot", moved, minutes))
    return made


def _moved(configuration: Configuration, into: dict[str, str]) -> Configuration:
    """Return the configuration with parts in other places, and so reseated."""
    kept = tuple((place, tag) for place, tag in configuration.places if tag not in into)
    places = kept + tuple((place, tag) for tag, place in into.items())
    treated = tuple(dict.fromkeys((*configuration.treated, *into)))
    return replace(configuration, places=tuple(sorted(places)), treated=treated)


def _with(configuration: Configuration, tags: tuple[str, ...]) -> Configuration:
    return replace(
        configuration, tags=tags, places=tuple((place, tag) for place, tag in configuration.places if tag in tags)
    )
