"""Keeping the book of trials of a job: what is installed, which runs belong to it, and results from elsewhere."""

from dataclasses import replace

from thresher.engine.run.record import Record
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartInstance, PartKind
from thresher.model.trials import Book, BookPart, Configuration, Ended, Outcome, Trial
from thresher.protocol.events import BookEvent
from thresher.shop.store import ShopPart

_MOST_MINUTES = 60.0 * 24 * 366
_MOST_TRIALS = 200
AS_IT_CAME = "As it came in"
STARTS_AGAIN = "It starts again"
_NEVER_SEEN = (PartKind.POWER, PartKind.COOLING)
"""Kinds of parts that report nothing about themselves; of the others two of one make look alike without serials."""


def first_book(instances: tuple[PartInstance, ...], shelf: tuple[ShopPart, ...]) -> Book:
    """Return the book of a machine as it came in: its own parts installed, the shop's known-good ones beside it."""
    own = tuple(BookPart(each.tag, each.kind, each.name) for each in instances if each.part)
    fitted = {part.kind for part in own}
    # what the machine cannot report is there all the same
    own += tuple(
        BookPart(kind.value, kind, f"{kind.value}, unknown")
        for kind in (PartKind.PROCESSOR, PartKind.BOARD, PartKind.MEMORY, PartKind.POWER, PartKind.COOLING)
        if kind not in fitted
    )
    ours = tuple(BookPart(each.tag, each.kind, each.name, known_good=True) for each in shelf)
    places = tuple((each.place, each.tag) for each in instances if each.part and each.place)
    return Book((*own, *ours), (Trial(0, AS_IT_CAME, Configuration(tuple(part.tag for part in own), places)),))


class TrialService:
    """Holds the book; every change is kept with the job and can be undone."""

    def __init__(
        self, record: Record, stored: Book | None, instances: tuple[PartInstance, ...], shelf: tuple[ShopPart, ...]
    ) -> None:
        """Continue with the stored book, adding parts that are new to it, or begin one."""
        self._record = record
        self._before: list[Book] = []
        first = first_book(instances, shelf)
        self.book = first
        if stored is not None and stored.trials:
            known = {part.tag for part in stored.parts}
            self.book = replace(stored, parts=stored.parts + tuple(p for p in first.parts if p.tag not in known))
        self._instances = instances
        self.asked = (*self.questions(instances), *self.unseen())
        """Where the machine contradicted the book when the bench was opened, or cannot confirm it, until answered."""

    @property
    def configuration(self) -> Configuration:
        """What is installed now."""
        return self.book.trials[-1].configuration

    def begin_trial(self, title: str, configuration: Configuration, kept: bool = False) -> Trial:
        """Begin a trial with another configuration; `kept` when the machine is to stay so. Raises InputError."""
        faults = [
            InputFault("configuration", f"{tag!r} is not a part of the book")
            for tag in configuration.tags
            if self.book.part(tag) is None
        ]
        faults += [
            InputFault("configuration", f"{tag!r} is installed twice")
            for tag in {t for t in configuration.tags if configuration.tags.count(t) > 1}
        ]
        faults += [
            InputFault("places", f"{tag!r} is in {place!r} but not installed")
            for place, tag in configuration.places
            if tag not in configuration.tags
        ]
        if not title.strip():
            faults.append(InputFault("title", "say what was changed"))
        if len(self.book.trials) >= _MOST_TRIALS:
            faults.append(InputFault("book", f"it holds {_MOST_TRIALS} trials, which is the most"))
        if faults:
            raise InputError("trial", faults)
        trial = Trial(len(self.book.trials), title.strip(), configuration, kept=kept)
        self._change(replace(self.book, trials=(*self.book.trials, trial)))
        self._record.note(
            f"Trial {trial.number + 1}: {trial.title}", self._difference(trial) + (", permanent" if kept else "")
        )
        return trial

    def add_part(self, tag: str, kind: PartKind, name: str) -> BookPart:
        """Add a part that was bought for this job; it counts as known good. Raises InputError."""
        faults = [InputFault("tag", "give the part a tag of its own")] if not tag.strip() else []
        if self.book.part(tag.strip()) is not None:
            faults.append(InputFault("tag", f"{tag.strip()!r} is already the tag of another part"))
        if faults:
            raise InputError("part", faults)
        part = BookPart(tag.strip(), kind, " ".join(name.split()), known_good=True)
        self._change(replace(self.book, parts=(*self.book.parts, part)))
        self._record.note(f"New part {part.tag}", f"{kind.value}{f', {part.name}' if part.name else ''}")
        return part

    def add_outcome(self, number: int, outcome: Outcome) -> None:
        """Enter what was seen without a run of ours. Raises InputError."""
        trial = self._trial(number)
        faults = []
        if not 0.0 <= outcome.minutes <= _MOST_MINUTES:
            faults.append(InputFault("minutes", f"expected 0 to {_MOST_MINUTES:.0f}, found {outcome.minutes:g}"))
        if not 0.0 < outcome.trust <= 1.0:
            faults.append(InputFault("trust", f"expected above 0 up to 1, found {outcome.trust:g}"))
        if faults:
            raise InputError("outcome", faults)
        self._put(replace(trial, outcomes=(*trial.outcomes, outcome)))
        when = f" after {outcome.minutes:.0f} min of {outcome.load}" if outcome.load else ""
        words = f"{trial.title}{when}, trusted {outcome.trust:.0%}"
        self._record.note(f"Trial {number + 1} {outcome.ended.value}", words)

    def assign(self, run: int, number: int) -> None:
        """Say that a run belongs to a trial; it leaves the one that it was with. Raises InputError."""
        self._trial(number)
        trials = tuple(
            replace(each, runs=(*(r for r in each.runs if r != run), *((run,) if each.number == number else ())))
            for each in self.book.trials
        )
        self._change(replace(self.book, trials=trials))

    def run_begins(self, run: int) -> None:
        """Put a run that begins down to what is installed now; a machine that had not started begins another trial."""
        last = self.book.trials[-1]
        dead = bool(last.outcomes) and last.outcomes[-1].ended is Ended.NO_START
        if dead and len(self.book.trials) < _MOST_TRIALS:
            last = self.begin_trial(STARTS_AGAIN, last.configuration)
        self._put(replace(last, runs=(*last.runs, run)), undoable=False)

    def undo(self) -> None:
        """Undo the newest change. Raises InputError when there is none since the bench was opened."""
        if not self._before:
            raise InputError("book", [InputFault("undo", "nothing was changed since the bench was opened")])
        runs = {run: trial.number for trial in self.book.trials for run in trial.runs}
        self.book = self._before.pop()
        # runs made meanwhile stay in the book: with their trial, or with the last one when that is gone
        known = {run for trial in self.book.trials for run in trial.runs}
        for run, number in runs.items():
            if run not in known:
                trial = self.book.trials[min(number, len(self.book.trials) - 1)]
                self.book = self._with(replace(trial, runs=(*trial.runs, run)))
        self._report()
        self._record.note("The book of trials is as it was before", self.book.trials[-1].title)

    def questions(self, instances: tuple[PartInstance, ...]) -> tuple[str, ...]:
        """Return where the machine's own inventory contradicts the configuration of the last trial."""
        seen = {each.tag: each.place for each in instances if each.part}
        reported = set(self.configuration.tags)
        asked = []
        for each in instances:
            part = self.book.part(each.tag)
            if part is None or part.known_good or part.kind in _NEVER_SEEN:
                continue
            if each.part and each.tag not in reported:
                asked.append(f"{each.tag} is removed by the book, but the machine still reports it")
            elif not each.part and each.tag in reported:
                asked.append(f"{each.tag} is installed by the book, but the machine does not report it")
            elif (place := self.configuration.place_of(each.tag)) and seen.get(each.tag, place) not in ("", place):
                asked.append(f"{each.tag} is in {place} by the book, but the machine reports it in {seen[each.tag]}")
        return tuple(asked)

    def unseen(self) -> tuple[str, ...]:
        """Return what the book says is installed instead of the machine's own and no machine can report by itself."""
        first = self.book.trials[0].configuration
        swapped = [
            part for part in self.book.parts if part.tag in self.configuration.tags and part.tag not in first.tags
        ]
        return tuple(
            f"{part.tag} is installed by the book; a machine cannot identify its {part.kind.value}, so please check"
            for part in swapped
            if part.kind in _NEVER_SEEN
        )

    def follow_machine(self) -> Trial:
        """Begin a trial with what the machine itself shows. Raises InputError when nothing was asked."""
        if not self.asked or not self.questions(self._instances):
            why = "the machine's own list does not differ from the book"
            raise InputError("book", [InputFault("as the machine shows", why)])
        seen = [each for each in self._instances if each.kind not in _NEVER_SEEN]
        shown = {each.tag: each.place for each in seen if each.part}
        reported = {each.tag for each in seen}
        tags = tuple(tag for tag in self.configuration.tags if tag not in reported or tag in shown)
        tags += tuple(tag for tag in shown if tag not in tags and self.book.part(tag) is not None)
        places = tuple((place, tag) for tag, place in shown.items() if place and tag in tags)
        others = tuple((place, tag) for place, tag in self.configuration.places if tag in tags and tag not in shown)
        trial = self.begin_trial(
            "As the machine shows it", replace(self.configuration, tags=tags, places=(*places, *others))
        )
        self.keep_as_recorded()
        return trial

    def keep_as_recorded(self) -> None:
        """Let the book be right where the machine contradicts it, until the bench is opened again."""
        self.asked = ()
        self._record.publish(BookEvent(self.book))

    def _difference(self, trial: Trial) -> str:
        before = self.book.trials[trial.number - 1].configuration
        out = [tag for tag in before.tags if tag not in trial.configuration.tags]
        into = [tag for tag in trial.configuration.tags if tag not in before.tags]
        moved = [
            f"{tag} to {place}" for place, tag in trial.configuration.places if before.place_of(tag) not in ("", place)
        ]
        words = [f"out: {', '.join(out)}"] * bool(out) + [f"in: {', '.join(into)}"] * bool(into) + moved
        if trial.configuration.stock != before.stock:
            words.append("stock settings" if trial.configuration.stock else "settings as found")
        words += [f"{each} treated" for each in trial.configuration.treated if each not in before.treated]
        return "; ".join(words) or "the same configuration again"

    def _trial(self, number: int) -> Trial:
        if not 0 <= number < len(self.book.trials):
            raise InputError("book", [InputFault("trial", f"there is no trial {number}")])
        return self.book.trials[number]

    def _with(self, trial: Trial) -> Book:
        trials = tuple(trial if each.number == trial.number else each for each in self.book.trials)
        return replace(self.book, trials=trials)

    def _put(self, trial: Trial, undoable: bool = True) -> None:
        self._change(self._with(trial), undoable)

    def _change(self, book: Book, undoable: bool = True) -> None:
        if undoable:
            self._before.append(self.book)
        self.book = book
        self._report()

    def _report(self) -> None:
        self._record.writer.set_book(self.book)
        self._record.changed = True
        self._record.publish(BookEvent(self.book, self.asked))
