"""The port that drives a fan of the board: a duty, and back to what it was, also when this program dies."""

from typing import Protocol


class FanDrive(Protocol):
    """One fan under control. `close` and `let_go` put back how it was driven before, exactly; both may be called."""

    def drive(self, duty: int) -> None:
        """Drive it with a duty of 0 to 255 (kernel document hwmon/sysfs-interface, pwm). Raises SourceUnavailable."""
        ...

    def close(self) -> None:
        """Put back how it was, and wait until that is done."""
        ...

    def let_go(self) -> None:
        """Have it put back how it was, without waiting."""
        ...
