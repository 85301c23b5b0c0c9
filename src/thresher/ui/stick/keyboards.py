"""The keyboard layouts that the display server knows, from its own list (xkeyboard-config, rules/base.lst)."""

from pathlib import Path

LIST = Path("/usr/share/X11/xkb/rules/base.lst")
_FIRST = ("us", "gb", "de", "fr", "es", "it")
"""Layouts that stand on top; the others follow by name."""


def parse_layouts(text: str) -> list[tuple[str, str]]:
    """Return names and words of the layouts in the list, those used most first."""
    found: list[tuple[str, str]] = []
    inside = False
    for line in text.splitlines():
        if line.startswith("!"):
            inside = line.split()[1:2] == ["layout"]
            continue
        name, _, words = line.strip().partition(" ")
        if inside and name and words.strip() and name != "custom":
            found.append((name, words.strip()))
    order = {name: place for place, name in enumerate(_FIRST)}
    return sorted(found, key=lambda each: (order.get(each[0], len(_FIRST)), each[1]))


def layouts(path: Path = LIST) -> list[tuple[str, str]]:
    """Return the layouts of this system; only the usual one where its list cannot be read."""
    try:
        return parse_layouts(path.read_text(encoding="utf-8", errors="replace")) or [("us", "English (US)")]
    except OSError:
        return [("us", "English (US)")]
