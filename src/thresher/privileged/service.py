"""The service on the system bus: it checks who asks, whether that person may, and what for; then it carries it out.

Nothing is carried out that `allowlist.py` does not name. Who asks is what the bus says (org.freedesktop.DBus), whether
they may is what polkit says (org.freedesktop.PolicyKit1.Authority). What polkit has allowed a process holds until that
process ends: a bench that was allowed in the evening is not asked again in the night.
"""

import os
import selectors
import signal
import socket
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from jeepney import (
    DBusAddress,
    HeaderFields,
    Message,
    MessageFlag,
    MessageType,
    message_bus,
    new_error,
    new_method_call,
    new_method_return,
)
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from thresher.privileged import restart_unit, served, tracing
from thresher.privileged.allowlist import (
    ASK_ALL,
    BUS_NAME,
    INTERFACE,
    RESTART_GROUP,
    NotOnTheList,
    Refused,
    Right,
    shown,
)
from thresher.privileged.requests import METHODS, Answer, Caller, Places

_POLKIT = DBusAddress(
    "/org/freedesktop/PolicyKit1/Authority", "org.freedesktop.PolicyKit1", "org.freedesktop.PolicyKit1.Authority"
)
_MAY_ASK_A_PERSON = 1
_ANSWER_S = 5.0
_IDLE_S = 60.0
_MOST_SERVED = 64
"""Processes that may serve at once."""
_FROM_SYSLOG = {"info": "<6>", "warning": "<4>"}


def _log(words: str, level: str = "info") -> None:
    print(f"{_FROM_SYSLOG[level]}{words}", file=sys.stderr, flush=True)


# ---- the service


@dataclass(slots=True)
class _Waiting:
    """A request that waits for an answer of the bus or of polkit."""

    then: Callable[[Message | None], None]
    until: float


@dataclass(slots=True)
class Helper:
    """Serves one connection to the system bus."""

    bus: DBusConnection
    places: Places = field(default_factory=Places)
    traces: list[tracing.Instance] = field(default_factory=list)
    nameless: bool = False
    _grants: dict[tuple[int, int, int], set[Right]] = field(default_factory=dict)
    _waiting: dict[int, _Waiting] = field(default_factory=dict)
    _children: set[int] = field(default_factory=set)
    _asking: set[int] = field(default_factory=set)
    _busy_at: float = field(default_factory=time.monotonic)
    _number: int = 0

    def take_name(self) -> None:
        """Ask for the name on the bus. What was asked under it before it was there comes even before the answer."""

        def answered(reply: Message | None) -> None:
            if (said := values_of(reply)) != (1,):
                _log(f"the name {BUS_NAME} cannot be had: {shown(said)}", "warning")
                self.nameless = True

        self._ask(message_bus.RequestName(BUS_NAME), answered, _ANSWER_S)

    def next_number(self) -> int:
        """Return a number that no trace instance of this process has had."""
        self._number += 1
        return os.getpid() * 1000 + self._number

    def served(self, serve: served.Serve, opened: tuple[int, ...]) -> Answer:
        """Start a process for a caller over what was opened, which is closed here; the answer is its socket."""
        try:
            if len(self._children) >= _MOST_SERVED:
                raise Refused(f"{_MOST_SERVED} devices are open already")
            pid, theirs = served.in_own_process(serve, (self.bus.sock.fileno(),))
        finally:
            for descriptor in opened:
                os.close(descriptor)
        self._children.add(pid)
        descriptor = theirs.detach()
        return Answer("h", (descriptor,), (descriptor,))

    # ---- messages

    def take(self, message: Message) -> None:
        """Take one message from the bus."""
        fields, kind = message.header.fields, message.header.message_type
        if kind in (MessageType.method_return, MessageType.error):
            waiting = self._waiting.pop(fields.get(HeaderFields.reply_serial, -1), None)
            if waiting is not None:
                waiting.then(message)
        elif kind is MessageType.method_call:
            self._busy_at = time.monotonic()
            self._take_call(message)

    def _take_call(self, call: Message) -> None:
        fields = call.header.fields
        member, interface = fields.get(HeaderFields.member, ""), fields.get(HeaderFields.interface, INTERFACE)
        form = fields.get(HeaderFields.signature, "")
        if interface != INTERFACE or (member not in METHODS and member not in ("Allowed", "Ask")):
            self._refuse(call, "UnknownMethod", f"there is no method {shown(member)} here")
        elif form != (METHODS[member].form if member in METHODS else ""):
            self._refuse(call, "InvalidArgs", f"{member} takes other arguments than {shown(form)}")
        else:
            self._with_caller(call, lambda caller: self._serve(call, member, caller))

    def _serve(self, call: Message, member: str, caller: Caller) -> None:
        if member == "Allowed":
            self._tell_allowed(call, caller, list(Right), {})
        elif member == "Ask":
            self._ask_person(call, caller)
        else:
            self._with_right(call, member, caller)

    def _with_right(self, call: Message, member: str, caller: Caller) -> None:
        right = METHODS[member].right
        if self.has(caller, right):
            self._carry_out(call, member, caller)
            return

        def answered(yes: bool, could_ask: bool) -> None:
            if yes:
                self.grant(caller, right)
                self._carry_out(call, member, caller)
                return
            todo = "a person has to allow it: thresher access --ask" if could_ask else "the rules do not allow it"
            _log(f"{caller}: {member} {shown(call.body)} refused: {right.value} is not allowed", "warning")
            self._refuse(call, "NotAllowed", f"the access helper may not do this for you; {todo}")

        self._ask_polkit(caller, right.action, 0, answered)

    def has(self, caller: Caller, right: Right) -> bool:
        """Whether a caller has a right already: allowed before, or a run that goes on after a crash."""
        if right in self._grants.get((caller.user, caller.process, caller.began), ()):
            return True
        return caller.group == RESTART_GROUP and restart_unit.owner_of_unit(self.places.units) == caller.user

    def grant(self, caller: Caller, *rights: Right) -> None:
        """Remember what a caller is allowed."""
        self._grants.setdefault((caller.user, caller.process, caller.began), set()).update(rights)

    def _carry_out(self, call: Message, member: str, caller: Caller) -> None:
        answer: Answer | None = None
        try:
            answer = METHODS[member].carry_out(self, caller, call.body)
            _log(f"{caller}: {member} {shown(call.body)}")
            self._reply(call, answer.form, answer.values)
        except NotOnTheList as error:
            _log(f"{caller}: {member} {shown(call.body)} refused: {error}", "warning")
            self._refuse(call, "NotOnTheList", str(error))
        except (Refused, ValueError) as error:
            _log(f"{caller}: {member} {shown(call.body)} failed: {error}", "warning")
            self._refuse(call, "Failed", str(error))
        except OSError as error:
            words = served.words_of(error)
            _log(f"{caller}: {member} {shown(call.body)} failed: {words}")
            self._refuse(call, "Failed", words)
        finally:
            for descriptor in answer.close if answer is not None else ():
                os.close(descriptor)

    def _ask_person(self, call: Message, caller: Caller) -> None:
        if all(self.has(caller, right) for right in Right):
            self._tell_allowed(call, caller, list(Right), {})  # nobody is asked for what is there
            return
        if caller.process in self._asking:
            self._refuse(call, "Failed", "the question is on the screen already")
            return
        self._asking.add(caller.process)
        self._ask_polkit(caller, ASK_ALL, _MAY_ASK_A_PERSON, lambda yes, _: self._asked(call, caller, yes))

    def _asked(self, call: Message, caller: Caller, yes: bool) -> None:
        self._asking.discard(caller.process)
        _log(f"{caller}: asked for everything: {'allowed' if yes else 'not allowed'}")
        if yes:
            self.grant(caller, *Right)
        self._tell_allowed(call, caller, list(Right), {})

    def _tell_allowed(self, call: Message, caller: Caller, left: list[Right], found: dict[str, str]) -> None:
        """Tell for each right whether the caller has it: `yes`, `ask` when a person may be asked, or `no`."""
        while left and self.has(caller, left[0]):
            found[left.pop(0).value] = "yes"
        if not left:
            self._reply(call, "a{ss}", (found,))
            return
        right = left.pop(0)

        def answered(yes: bool, could_ask: bool) -> None:
            found[right.value] = "yes" if yes else "ask" if could_ask else "no"
            if yes:
                self.grant(caller, right)
            self._tell_allowed(call, caller, left, found)

        self._ask_polkit(caller, right.action, 0, answered)

    # ---- who asks, and may they

    def _with_caller(self, call: Message, then: Callable[[Caller], None]) -> None:
        """Find out who sent a call, by what the bus says of the connection, and go on with that."""
        sender = call.header.fields.get(HeaderFields.sender, "")

        def known(reply: Message | None) -> None:
            said = dict((values_of(reply) or ({},))[0])
            user, process = said.get("UnixUserID", ("u", -1))[1], said.get("ProcessID", ("u", -1))[1]
            try:
                began, group = began_and_group(process)
            except (OSError, ValueError):
                self._refuse(call, "NotAllowed", "the program that asks cannot be found")
                return
            then(Caller(sender, user, process, began, group))

        self._ask(message_bus.GetConnectionCredentials(sender), known, _ANSWER_S)

    def _ask_polkit(self, caller: Caller, action: str, flags: int, then: Callable[[bool, bool], None]) -> None:
        """Ask polkit; `then` gets whether it is allowed, and whether a person could be asked."""
        subject = ("system-bus-name", {"name": ("s", caller.name)})
        question = new_method_call(_POLKIT, "CheckAuthorization", "(sa{sv})sa{ss}us", (subject, action, {}, flags, ""))

        def answered(reply: Message | None) -> None:
            said = values_of(reply)
            if said is None:
                _log(f"polkit does not answer for {action}: {shown(reply.body if reply else 'late')}", "warning")
                then(False, False)
                return
            allowed, challenge, _details = said[0]
            then(allowed, challenge)

        self._ask(question, answered, 600.0 if flags else _ANSWER_S)

    def _ask(self, question: Message, then: Callable[[Message | None], None], wait_s: float) -> None:
        """Send a question; `then` gets the answer, None when none has come in time."""
        serial = next(self.bus.outgoing_serial)
        self._waiting[serial] = _Waiting(then, time.monotonic() + wait_s)
        self.bus.send(question, serial=serial)

    # ---- answers

    def _reply(self, call: Message, form: str, values: tuple[Any, ...]) -> None:
        if not call.header.flags & MessageFlag.no_reply_expected:
            self.bus.send(new_method_return(call, form, values))

    def _refuse(self, call: Message, name: str, words: str) -> None:
        if not call.header.flags & MessageFlag.no_reply_expected:
            self.bus.send(new_error(call, f"{BUS_NAME}.Error.{name}", "s", (words,)))

    # ---- tidying up

    def tidy(self) -> None:
        """Forget what has ended: processes that served, callers, questions that nobody answered."""
        while self._children:
            pid, _ = os.waitpid(-1, os.WNOHANG)
            if not pid:
                break
            self._children.discard(pid)
        late = [serial for serial, each in self._waiting.items() if each.until <= time.monotonic()]
        for serial in late:
            _log("neither the bus nor polkit has answered in time", "warning")
            self._waiting.pop(serial).then(None)
        self._grants = {key: rights for key, rights in self._grants.items() if still_there(key[1], key[2])}
        self.remove_traces()

    def remove_traces(self) -> None:
        """Take away trace instances that nobody reads any more: the kernel refuses while one is open somewhere."""
        self.traces = [each for each in self.traces if not each.remove()]

    @property
    def idle(self) -> bool:
        """Whether nothing has been asked for a while and nobody holds anything."""
        quiet = time.monotonic() - self._busy_at > _IDLE_S
        return quiet and not (self._children or self._grants or self.traces or self._waiting)


def values_of(reply: Message | None) -> tuple[Any, ...] | None:
    """Return what an answer holds, None for an error and where none has come."""
    if reply is None or reply.header.message_type is MessageType.error:
        return None
    return tuple(reply.body)


def began_and_group(process: int) -> tuple[int, str]:
    """Return when a process began in ticks since the start of the machine, and its control group.

    Kernel documents filesystems/proc, section 1.1 (`stat`, field 22), and admin-guide/cgroup-v2. Raises OSError and
    ValueError when it has gone.
    """
    if process <= 0:
        raise ValueError("no such process")
    place = Path("/proc") / str(process)
    began = int((place / "stat").read_text("utf-8", "replace").rpartition(")")[2].split()[19])
    group = (place / "cgroup").read_text("utf-8", "replace").strip()
    return began, group.removeprefix("0::")


def still_there(process: int, began: int) -> bool:
    """Whether a process is still the same one."""
    try:
        return began_and_group(process)[0] == began
    except (OSError, ValueError):
        return False


def serve(helper: Helper, ended: socket.socket) -> None:
    """Serve until something comes on `ended`, or until nobody has needed it for a while."""
    with selectors.DefaultSelector() as selector:
        selector.register(helper.bus.sock, selectors.EVENT_READ)
        selector.register(ended, selectors.EVENT_READ)
        while not (helper.nameless or helper.idle):
            ready = {key.fileobj for key, _ in selector.select(1.0)}
            if ended in ready:
                return
            while True:
                try:
                    message = helper.bus.receive(timeout=0)
                except TimeoutError:
                    break
                helper.take(message)
            helper.tidy()


def main(places: Places | None = None) -> int:
    """Take the name on the system bus and serve it; the exit code is 1 when that cannot be had."""
    os.umask(0o077)
    wake, ended = socket.socketpair()
    wake.setblocking(False)
    signal.signal(signal.SIGTERM, lambda _number, _frame: None)
    signal.set_wakeup_fd(wake.fileno())
    try:
        bus = open_dbus_connection("SYSTEM", enable_fds=True)
    except (OSError, KeyError, ValueError) as error:
        _log(f"no system bus answers: {error}", "warning")
        return 1
    helper = Helper(bus, places or Places())
    try:
        helper.take_name()
        serve(helper, ended)
    except (ConnectionError, EOFError) as error:
        _log(f"the bus has gone: {error}", "warning")
    finally:
        signal.set_wakeup_fd(-1)
        helper.remove_traces()
    return int(helper.nameless)
