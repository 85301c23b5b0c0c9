"""Durations as a person says them."""


def duration_words(seconds: float) -> str:
    """Return a duration in words: 45 s, 4 min 20 s, 22 min, 1 h 05 min, 3 d 4 h."""
    whole = max(0, round(seconds))
    if whole < 60:
        return f"{whole} s"
    if whole < 600:
        minutes, rest = divmod(whole, 60)
        return f"{minutes} min {rest} s" if rest else f"{minutes} min"
    minutes = round(whole / 60)
    if minutes < 60:
        return f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    if hours < 48:
        return f"{hours} h {minutes:02d} min" if minutes else f"{hours} h"
    days, hours = divmod(hours, 24)
    return f"{days} d {hours} h" if hours else f"{days} d"
