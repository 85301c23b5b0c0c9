"""Reading numbers and texts out of pages that a drive sends, which may be short or damaged."""

from thresher.model.errors import InputError, InputFault


class DamagedPage(InputError):
    """A page of a drive that is too short or fails its checksum."""

    def __init__(self, page: str, message: str) -> None:
        """`page` names it."""
        super().__init__(page, [InputFault("page", message)])


def check_length(data: bytes, length: int, page: str) -> None:
    """Raise DamagedPage for a page that is shorter than the standard has it."""
    if len(data) < length:
        raise DamagedPage(page, f"expected {length} bytes, found {len(data)}")


def check_sum(data: bytes, page: str) -> None:
    """Raise DamagedPage where the bytes of a sector do not add up to 0 (ACS-4: data structure checksum)."""
    check_length(data, 512, page)
    if sum(data[:512]) % 256:
        raise DamagedPage(page, "its checksum is wrong")


def number(data: bytes, at: int, size: int) -> int:
    """Return a little-endian number."""
    return int.from_bytes(data[at : at + size], "little")


def text(data: bytes) -> str:
    """Return an ASCII text padded with spaces; anything else in it becomes a question mark."""
    return "".join(chr(byte) if 32 <= byte < 127 else "?" for byte in data.rstrip(b"\x00")).strip()


def swapped_text(data: bytes) -> str:
    """Return an ATA string, in which the bytes of each word are swapped (ACS-4, 3.3.10)."""
    return text(b"".join(data[at : at + 2][::-1] for at in range(0, len(data) - 1, 2)))
