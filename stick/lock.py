"""The lock of the stick's Debian packages: which versions an image is made of, so that it can be made again."""

import re
from dataclasses import dataclass
from pathlib import Path

from thresher.model.errors import InputError, InputFault

_LINE = re.compile(r"([a-z0-9][a-z0-9+.-]+(?::[a-z0-9]+)?)=(\S+)")
_TIME = re.compile(r"# time (\d+)")


@dataclass(frozen=True, slots=True)
class Lock:
    """Versions by package, and the time in Unix seconds that every file of the image gets at the latest."""

    time: int
    versions: dict[str, str]

    @property
    def wanted(self) -> list[str]:
        """The packages with their versions as apt takes them."""
        return [f"{name}={version}" for name, version in sorted(self.versions.items())]

    def text(self, components: str) -> str:
        """Return the lock as a file."""
        head = f"# Packages of the stick's image, from {components}; made by make-stick --newest.\n# time {self.time}\n"
        return head + "".join(f"{each}\n" for each in self.wanted)


def parse_lock(text: str, source: str) -> Lock:
    """Parse a lock. Raises InputError with every line that is none."""
    faults: list[InputFault] = []
    versions: dict[str, str] = {}
    time = _TIME.search(text)
    if time is None:
        faults.append(InputFault("time", "the line '# time SECONDS' is missing"))
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.startswith("#"):
            continue
        found = _LINE.fullmatch(line.strip())
        if found is None:
            faults.append(InputFault(f"line {number}", f"expected package=version, found {line.strip()[:60]!r}"))
        else:
            versions[found[1]] = found[2]
    if not versions:
        faults.append(InputFault("packages", "none is named"))
    if faults or time is None:
        raise InputError(source, faults)
    return Lock(int(time[1]), versions)


def names_of(path: Path) -> list[str]:
    """Return the packages that a list names, one a line, without comments."""
    lines = (line.partition("#")[0].strip() for line in path.read_text(encoding="utf-8").splitlines())
    return [line for line in lines if line]
