"""The port that drives a fan or a backlight: a value, and back to what it was, also when this program dies."""

from typing import Protocol


class Driven(Protocol):
    """One thing under control. `close` and `let_go` put back how it was before, exactly; both may be called."""

    def drive(self, value: int) -> None:
        """Drive it with a value in the kernel's own unit. Raises SourceUnavailable.

        A fan takes a duty of 0 to 255 (kernel document hwmon/sysfs-interface, pwm), a backlight 0 to its
        `max_brightness` (kernel document ABI/stable/sysfs-class-backlight).
        """
        ...

    def close(self) -> None:
        """Put back how it was, and wait until that is done."""
        ...

    def let_go(self) -> None:
        """Have it put back how it was, without waiting."""
        ...
