"""Following work in another process so that Ctrl+C ends it in order, with its last report."""

from collections.abc import Iterator
from typing import Protocol, TypeVar

T_co = TypeVar("T_co", covariant=True)


class Reporting(Protocol[T_co]):
    """Work in another process: its reports, and how it is stopped."""

    def reports(self) -> Iterator[T_co]:
        """Yield the reports that come from now on."""
        ...

    def stop(self) -> None:
        """Ask it to stop; its last report still comes."""
        ...


def until_interrupted(work: Reporting[T_co]) -> Iterator[T_co]:
    """Yield the reports; Ctrl+C stops the work, and what it reports then is yielded too."""
    reports = work.reports()
    while True:
        try:
            report = next(reports)
        except StopIteration:
            return
        except KeyboardInterrupt:
            work.stop()
            reports = work.reports()  # the interruption has ended the other iterator
            continue
        yield report
