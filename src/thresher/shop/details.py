"""Who the shop is and how it charges: what a report prints of it, tax and currency."""

import re
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from thresher.model.errors import InputError, InputFault
from thresher.shop.store import change_file, read_file

FORMAT = "thresher-shop/1"
_LONGEST = 200


class Paper(StrEnum):
    """The sheet that is printed on."""

    A4 = "A4"
    LETTER = "Letter"


@dataclass(frozen=True, slots=True, kw_only=True)
class ShopDetails:
    """What a report prints of the shop. `tax_percent` is added to net prices; `currency` stands before amounts.

    `address` may have several lines.
    """

    format: str = FORMAT
    name: str = ""
    address: str = ""
    currency: str = "€"
    tax_percent: float = 0.0
    paper: Paper = Paper.A4


def details_path(shop: Path) -> Path:
    """Return where the shop's details are kept."""
    return shop / "shop.json"


def read_details(shop: Path) -> ShopDetails:
    """Return the shop's details, those of no shop where there are none. Raises InputError."""
    found = read_file(details_path(shop), ShopDetails, FORMAT) or ShopDetails()
    check_details(found, str(details_path(shop)))
    return found


def keep_details(shop: Path, details: ShopDetails) -> ShopDetails:
    """Keep the shop's details. Raises InputError for what cannot be meant, EnvironmentFault."""
    check_details(details, "shop details")
    return change_file(details_path(shop), FORMAT, ShopDetails(), lambda _: details)


def check_details(details: ShopDetails, source: str) -> None:
    """Raise InputError for details that cannot be meant."""
    faults = []
    if not 0.0 <= details.tax_percent <= 100.0:
        faults.append(InputFault("tax", f"expected 0 to 100 %, found {details.tax_percent:g}"))
    if not re.fullmatch(r"\S{1,4}", details.currency):
        faults.append(
            InputFault("currency", f"expected one to four signs, such as € or USD, found {details.currency!r}")
        )
    for place, text in (("name", details.name), ("address", details.address)):
        if len(text) > _LONGEST:
            faults.append(InputFault(place, f"at most {_LONGEST} characters, found {len(text)}"))
    if faults:
        raise InputError(source, faults)
