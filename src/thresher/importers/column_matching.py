"""What a person takes the columns of a log for: changed by hand, and remembered for logs with the same titles."""

from dataclasses import replace
from pathlib import Path

from thresher.importers.csv_log import LEFT_OUT, ColumnMatch, ForeignLog, decode_matches, encode_matches
from thresher.model.channels import Quantity
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.private_folder import made_folder


def changed_columns(columns: tuple[ColumnMatch, ...], changes: list[str]) -> tuple[ColumnMatch, ...]:
    """Return the columns with changes such as `Vcore=voltage,processor` or `Noise=`. Raises InputError."""
    faults: list[InputFault] = []
    found = {column.title: column for column in columns}
    for change in changes:
        title, equals, words = change.rpartition("=")
        quantity, _, part = words.partition(",")
        column = found.get(title)
        if not equals or column is None:
            titles = ", ".join(found)
            faults.append(InputFault(change, f"expected TITLE=QUANTITY[,PART] with a title of the log: {titles}"))
        elif quantity and quantity not in tuple(Quantity):
            faults.append(InputFault(change, f"expected a quantity, one of {', '.join(Quantity)}"))
        elif part and part not in tuple(PartKind):
            faults.append(InputFault(change, f"expected a part, one of {', '.join(PartKind)}"))
        else:
            kind = PartKind(part) if part else column.part
            found[title] = replace(column, quantity=quantity or LEFT_OUT, part=kind)
    if faults:
        raise InputError("columns", faults)
    return tuple(found[column.title] for column in columns)


def _path(shop: Path, log: ForeignLog) -> Path:
    return shop / "columns" / f"{log.key}.json"


def remember(shop: Path, log: ForeignLog, columns: tuple[ColumnMatch, ...]) -> None:
    """Keep what the columns of such logs are taken for. Raises EnvironmentFault."""
    path = _path(shop, log)
    try:
        made_folder(path.parent)
        path.write_bytes(encode_matches(columns))
    except OSError as error:
        tried = f"remembering the columns in {path}"
        raise EnvironmentFault(tried, error.strerror or str(error), "Choose a folder that can be written.") from error


def recall(shop: Path, log: ForeignLog) -> tuple[ColumnMatch, ...] | None:
    """Return what the columns of such logs were taken for, None when none was imported before. Raises InputError."""
    try:
        data = _path(shop, log).read_bytes()
    except OSError:
        return None
    kept = decode_matches(data)
    titles = {title for place, title in enumerate(log.titles) if place not in log.time_columns}
    return kept if {column.title for column in kept} == titles else None
