"""A measured figure, with what it is to be and whether it is."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Figure:
    """One measured figure: what, how much, in which unit, what it is to be."""

    name: str
    value: float
    unit: str
    wanted: str
    reached: bool
