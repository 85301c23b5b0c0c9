"""What wrong words of a card's memory have in common: a bit lane, an address line, a region."""

from collections.abc import Sequence

from thresher.graphics.results import Wrong

_FEW = 3
_REGION_SHARE = 0.02


def shape_of(wrong: Sequence[Wrong], words: int) -> str:
    """Return what the wrong words among so many have in common, empty where there are too few or nothing is."""
    if len(wrong) < _FEW:
        return ""
    found = []
    turned = [each.expected ^ each.found for each in wrong]
    lanes = 0
    for each in turned:
        lanes |= each
    if lanes.bit_count() == 1:
        found.append(f"always bit {lanes.bit_length() - 1}")
    places = sorted({each.place for each in wrong})
    if len(places) >= _FEW:
        span = places[-1] - places[0] + 1
        if span <= max(_FEW, words * _REGION_SHARE):
            found.append(f"all within {_bytes(span * 4)} from {_bytes(places[0] * 4)} on")
        else:
            line = _address_line(places, words)
            if line is not None:
                found.append(line)
    return "; ".join(found)


def _address_line(places: Sequence[int], words: int) -> str | None:
    """Return which bit of the byte address all places share, where chance would hardly do that."""
    if len(places) < 8:
        return None
    for bit in range(max(1, words - 1).bit_length() - 1, -1, -1):
        values = {place >> bit & 1 for place in places}
        if len(values) == 1:
            return f"address bit {bit + 2} is always {values.pop()}"
    return None


def _bytes(size: int) -> str:
    for unit, power in (("GiB", 30), ("MiB", 20), ("KiB", 10)):
        if size >= 1 << power:
            return f"{size / (1 << power):.1f} {unit}"
    return f"{size} B"
