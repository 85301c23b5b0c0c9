"""What this program may do on the machine: looked at when the bench is opened, and asked for when somebody wishes."""

from collections.abc import Callable
from functools import partial

from thresher.engine.beside import Beside, Outcome
from thresher.engine.run.record import Record
from thresher.model.access import Access, AccessLevel, AskableAccess
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Severity
from thresher.model.port import System
from thresher.protocol.events import AccessEvent


class AccessService:
    """Holds what is allowed. What more rights open is read when the bench is opened again, which it then wants."""

    def __init__(self, system: System, record: Record) -> None:
        """Look at what is allowed now; it may take seconds."""
        self._askable = system if isinstance(system, AskableAccess) else None
        self._record = record
        self._beside = Beside("access", record.note, at_once=False)
        self.access = self._askable.access() if self._askable is not None else Access()
        self.asking = False
        self.wants_reopening = False

    def event(self) -> AccessEvent:
        """Return how it stands, for windows."""
        return AccessEvent(self.access, self.asking, self.wants_reopening)

    def ask(self) -> AccessEvent:
        """Have a person asked for full access; what comes of it is announced. Raises EnvironmentFault."""
        if self._askable is None or self.access.level is AccessLevel.FULL:
            raise EnvironmentFault("asking for access", "everything is allowed already", "")
        if not self.asking:
            self.asking = True
            self._beside.do("asking for access", partial(self._asked, self._askable))
            self._record.publish(self.event())
        return self.event()

    def _asked(self, askable: AskableAccess) -> Outcome:
        return partial(self._answered, askable.ask_access())

    def _answered(self, found: Access) -> None:
        gained = len(found.missing) < len(self.access.missing)
        self.access, self.asking = found, False
        self.wants_reopening |= gained
        if gained:
            self._record.note("More access", f"{found.sentence}; the bench is opened again with it")
        else:
            why = found.why or "it was not allowed"
            self._record.note("No more access", f"{why}; everything goes on as before", Severity.WARNING)
        self._record.publish(self.event())

    def follow(self, idle: bool, reopen: Callable[[], None]) -> None:
        """Take what was answered; open the bench again once nothing is going on that this would end."""
        self._beside.follow()
        if self.wants_reopening and idle:
            reopen()
