"""What may block is done beside the engine, in its order; what fails is said; a hang holds up nobody."""

import threading
import time
from functools import partial

from thresher.engine.beside import Beside, Outcome
from thresher.model.findings import Severity

Notes = list[tuple[str, str, Severity]]


def made(notes: Notes, *, at_once: bool = False) -> Beside:
    """One that writes down what it says."""
    return Beside("test", lambda *words: notes.append(words), at_once)


def test_it_is_done_in_its_order_on_a_thread_and_taken_by_whoever_follows() -> None:
    beside = made([])
    threads: list[threading.Thread] = []
    taken: list[int] = []

    def work(number: int) -> Outcome:
        threads.append(threading.current_thread())
        return partial(taken.append, number)

    for number in range(3):
        beside.do("counting", partial(work, number))
    deadline = time.monotonic() + 20
    while not beside.idle:
        assert time.monotonic() < deadline
        beside.follow()
        time.sleep(0.01)
    assert taken == [0, 1, 2]
    assert threading.current_thread() not in threads


def test_on_a_simulated_machine_it_is_done_and_taken_at_once() -> None:
    beside = made([], at_once=True)
    taken: list[threading.Thread] = []
    beside.do("counting", lambda: partial(taken.append, threading.current_thread()))
    assert taken == [threading.current_thread()]
    assert beside.idle


def test_what_fails_is_said_and_the_next_is_done() -> None:
    notes: Notes = []
    taken: list[int] = []
    beside = made(notes)

    def fail() -> Outcome:
        raise OSError(5, "the drive does not answer")

    beside.do("reading what is left", fail)
    beside.do("counting", lambda: partial(taken.append, 1))
    beside.settle(20)
    assert taken == [1]
    ((title, detail, severity),) = notes
    assert title == "Failed: reading what is left"
    assert "does not answer" in detail
    assert severity is Severity.WARNING


def test_an_end_does_not_wait_for_what_hangs() -> None:
    beside, go_on = made([]), threading.Event()

    def hang() -> Outcome:
        go_on.wait(20)
        return lambda: None

    beside.do("hanging", hang)
    beside.settle(0.05)
    assert not beside.idle
    go_on.set()
    beside.settle(20)
    assert beside.idle
