"""The port that drives a fan of the board: a duty, and back to what it was, also when this program dies."""

from typing import Protocol


class FanDrive(Protocol):
    """One fan under control. `close` puts back how it was driven before, exactly."""

    def drive(self, duty: int) -> None:
        """Drive it with a duty of 0 to 255 (kernel document hwmon/sysfs-interface, pwm). Raises SourceUnavailable."""
        ...

    def close(self) -> None:
        """Put back how it was."""
        ...
