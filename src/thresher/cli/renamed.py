"""Names of options and verbs from before version 0.2: still read, with a note that says what to write now."""

RENAMED_OPTIONS = {"--bench-model": "--simulate"}
RENAMED_VERBS = {"bench-model": "scenario"}


def with_present_names(arguments: list[str]) -> tuple[list[str], list[str]]:
    """Return the arguments under their present names, and a note for each name that has changed."""
    present, notes = [], []
    for position, word in enumerate(arguments):
        name, equals, value = word.partition("=")
        new = RENAMED_VERBS.get(word) if position == 0 else None
        if new is None and name in RENAMED_OPTIONS:
            new = RENAMED_OPTIONS[name]
            present.append(f"{new}{equals}{value}")
        else:
            present.append(new or word)
        if new is not None:
            notes.append(f"Note: {name} is now called {new}.")
    return present, notes
