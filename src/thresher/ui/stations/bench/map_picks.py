"""Which parts are picked on the machine map: one by a click, more with Ctrl, a range of cores with Shift."""

from dataclasses import dataclass

from thresher.compose.entry import cores_text
from thresher.compose.ready_made import Pick
from thresher.model.parts import PartKind


@dataclass(frozen=True, slots=True)
class Target:
    """Something on the map that can be picked: a part by its tag, or one core of the processor."""

    tag: str
    kind: PartKind
    core: int | None = None


@dataclass(frozen=True, slots=True)
class Picks:
    """What is picked, in the order in which it was."""

    targets: tuple[Target, ...] = ()

    def with_click(self, target: Target, adding: bool = False, ranging: bool = False) -> "Picks":
        """Return the picks after a click: alone, added to the others or taken from them, or as the end of a range."""
        last = next((each for each in reversed(self.targets) if each.core is not None), None)
        if ranging and target.core is not None and last is not None and last.core is not None:
            low, high = sorted((last.core, target.core))
            added = [Target(target.tag, target.kind, core) for core in range(low, high + 1)]
            return Picks((*self.targets, *(each for each in added if each not in self.targets)))
        if not adding and not ranging:
            return Picks(() if self.targets == (target,) else (target,))
        if target in self.targets:
            return Picks(tuple(each for each in self.targets if each != target))
        # a whole processor and some of its cores exclude each other
        rest = tuple(
            each
            for each in self.targets
            if each.kind is not target.kind or (each.core is None) == (target.core is None)
        )
        return Picks((*rest, target))

    def pick(self) -> Pick:
        """Return the kinds that are picked, and the cores where single ones are."""
        kinds = tuple(dict.fromkeys(each.kind for each in self.targets))
        whole = any(each.kind is PartKind.PROCESSOR and each.core is None for each in self.targets)
        cores = () if whole else tuple(sorted({each.core for each in self.targets if each.core is not None}))
        drives = tuple(each.tag.removeprefix("drive ") for each in self.targets if each.kind is PartKind.DRIVE)
        cards = tuple(each.tag.removeprefix("graphics ") for each in self.targets if each.kind is PartKind.GRAPHICS)
        return Pick(kinds, cores, drives, cards)

    def has_core(self, core: int) -> bool:
        """Whether a core is picked, alone or with the whole processor."""
        return any(each.kind is PartKind.PROCESSOR and each.core in (None, core) for each in self.targets)


def pick_words(pick: Pick) -> str:
    """Return what is picked in words: "cores 0-3 + memory"."""
    words = []
    for kind in pick.kinds:
        if kind is PartKind.PROCESSOR and pick.cores:
            words.append(f"core{'s' if len(pick.cores) > 1 else ''} {cores_text(pick.cores)}")
        elif kind is PartKind.DRIVE and pick.drives:
            words.append(", ".join(pick.drives))
        elif kind is PartKind.GRAPHICS and pick.cards:
            words.append(", ".join(pick.cards))
        else:
            words.append("all cores" if kind is PartKind.PROCESSOR else kind.value)
    return " + ".join(words)
