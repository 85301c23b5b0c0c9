"""What distinguishes one machine, and one physical part, from every other."""

import hashlib
import re
from dataclasses import replace

from thresher.inventory.smbios import FILLER, Structure, describe
from thresher.model.parts import Fact, Inventory, Part, PartInstance, PartKind
from thresher.model.port import System, optional_text

_DMI = "/sys/firmware/dmi/tables/DMI"
_MACHINE_ID = "/etc/machine-id"
_LETTERS: dict[PartKind, str] = {
    PartKind.PROCESSOR: "P",
    PartKind.MEMORY: "M",
    PartKind.GRAPHICS: "G",
    PartKind.DRIVE: "D",
    PartKind.BOARD: "B",
    PartKind.POWER: "S",
    PartKind.COOLING: "C",
    PartKind.BATTERY: "A",
    PartKind.NETWORK: "N",
    PartKind.SOUND: "U",
    PartKind.DISPLAY: "L",
}


def read_identity(system: System, structures: list[Structure]) -> tuple[Fact, ...]:
    """Return what identifies a machine, the most lasting first: board serial, system serial and UUID, machine id.

    SMBIOS sections 7.2 and 7.3; machine-id(5). Fillers and numbers that many boards share are left out.
    """
    facts = []
    for structure in sorted(structures, key=lambda each: each.kind != 2):
        described = describe(structure)
        if structure.kind in (1, 2) and described and described.get("serial"):
            facts.append(Fact(f"{described.title} serial", described.get("serial"), _DMI))
        uuid = structure.area[8:24] if structure.kind == 1 else b""
        # all ones or all zeros mean none; one byte throughout is a filler of the same kind
        if len(uuid) == 16 and len(set(uuid)) > 2:
            facts.append(Fact("system UUID", uuid.hex(), _DMI))
    machine_id = optional_text(system, _MACHINE_ID)
    if re.fullmatch(r"[0-9a-f]{32}", machine_id) and len(set(machine_id)) > 2:
        facts.append(Fact("machine id", machine_id, _MACHINE_ID))
    return tuple(facts)


def machine_key(inventory: Inventory) -> str | None:
    """Return a name for the machine's own file: a digest of what identifies it, None when nothing does.

    A digest, because the file's name is seen by others than its content.
    """
    if not inventory.identity:
        return None
    first = inventory.identity[0]
    board = next((part.name for part in inventory.parts_of(PartKind.BOARD)), "")
    word = f"{first.name}\n{first.value}\n{board if first.name == 'board serial' else ''}"
    return hashlib.sha256(word.encode()).hexdigest()[:16]


def serial_of(part: Part) -> str:
    """Return a part's serial number, empty when it is not known or a filler."""
    serial = part.fact("serial")
    return "" if FILLER.match(serial) else serial


def tag_parts(inventory: Inventory, known: tuple[PartInstance, ...]) -> tuple[PartInstance, ...]:
    """Return all physical parts that a job has seen, those that are installed now with their present place.

    A part is the same when its serial number is; without one, when something of the same name is in the same place,
    which is all that the machine can report. Tags are never given twice, even when a part has gone.
    """
    left = list(known)
    counts: dict[str, int] = {}
    for each in known:
        letter, _, number = each.tag.partition("-")
        counts[letter] = max(counts.get(letter, 0), int(number) if number.isdigit() else 0)
    tagged: list[PartInstance] = []
    for part in inventory.parts:
        serial = serial_of(part)
        same = next((each for each in left if serial and each.serial == serial and each.kind is part.kind), None)
        same = same or next(
            (
                each
                for each in left
                if each.part == part.tag and each.name == part.name and (not serial or not each.serial)
            ),
            None,
        )
        if same is None:
            letter = _LETTERS[part.kind]
            counts[letter] = counts.get(letter, 0) + 1
            tag = f"{letter}-{counts[letter]}"
        else:
            left.remove(same)
            tag = same.tag
        tagged.append(PartInstance(tag, part.kind, part.name, serial, part.place, part.tag))
    gone = [PartInstance(each.tag, each.kind, each.name, each.serial, "", "") for each in left]
    return (*tagged, *gone)


SECRET_FACTS = ("serial", "address", "asset tag", "UUID")


def _is_secret(fact: Fact) -> bool:
    return fact.name in SECRET_FACTS or fact.name.endswith(tuple(f" {name}" for name in SECRET_FACTS))


def masked(inventory: Inventory) -> Inventory:
    """Return the inventory without what identifies machine, parts and network, for whatever leaves the shop."""
    parts = tuple(
        replace(
            part,
            facts=tuple(
                Fact(fact.name, "x" * len(fact.value), fact.source) if _is_secret(fact) else fact for fact in part.facts
            ),
        )
        for part in inventory.parts
    )
    return replace(inventory, parts=parts, identity=())
