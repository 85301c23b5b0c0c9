"""Files of the shop that another program wrote: a newer one is left as it is, and never written over."""

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
import pytest

from thresher.engine.assembly import open_engine
from thresher.model.channels import LimitSide, Quantity
from thresher.model.decisions import Culprit
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.shop.store import (
    NewerFile,
    Shelf,
    ShopPart,
    change_shelf,
    read_closed_jobs,
    read_machine,
    read_shelf,
    shelf_path,
)
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario


def test_a_newer_shelf_is_refused_left_in_place_and_not_overwritten(tmp_path: Path, ferry: Scenario) -> None:
    shop = tmp_path / "shop"
    change_shelf(shop, Shelf(), Shelf(parts=(ShopPart(tag="SHOP-1", kind=PartKind.MEMORY, name="Mussel Bank"),)))
    path = shelf_path(shop)
    data = msgspec.json.decode(path.read_bytes())
    name, _, number = data["format"].partition("/")
    path.write_bytes(msgspec.json.encode(data | {"format": f"{name}/{int(number) + 1}", "new": [1, 2]}))
    before = path.read_bytes()
    with pytest.raises(NewerFile, match="newer Thresher"):
        read_shelf(shop)
    with pytest.raises(NewerFile, match="newer Thresher"):
        change_shelf(shop, Shelf(), Shelf())
    engine = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "job.thresher", shop=shop)
    assert any(entry.title == "A file of the shop is newer than this program" for entry in engine.snapshot().tape)
    engine.close()
    assert path.read_bytes() == before
    assert [each.name for each in shop.iterdir() if "unreadable" in each.name] == []


def test_what_two_programs_change_at_the_same_time_is_both_kept(tmp_path: Path, ferry: Scenario) -> None:
    """Two benches opened on the same shop, before either has changed anything."""
    shop = tmp_path / "shop"
    first, second, third = (ShopPart(tag=f"SHOP-{n}", kind=PartKind.DRIVE, name="Slipway B2") for n in (1, 2, 3))
    change_shelf(shop, Shelf(), Shelf(parts=(first,)))
    one = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "one.thresher", shop=shop)
    two = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "two.thresher", shop=shop)
    try:
        one.machine.set_shelf((first, second))
        two.machine.set_shelf((third,))  # takes the first away, adds a third, and has not seen the second
        assert set(read_shelf(shop).parts) == {second, third}
        fan, core = (
            next(channel.key for channel in one.machine.channels if channel.quantity is quantity)
            for quantity in (Quantity.FAN, Quantity.TEMPERATURE)
        )
        one.machine.set_trust(fan, False, "loose plug")
        two.machine.set_limit(core, LimitSide.BELOW, 80.0, "as agreed")
        (path,) = (shop / "machines").glob("*.json")
        kept = read_machine(shop, path.stem)
        assert [each.channel for each in kept.trust] == [fan]
        assert [(each.channel, each.value) for each in kept.limits] == [(core, 80.0)]
        assert {visit.job for visit in kept.visits} == {"one.thresher", "two.thresher"}
        one.decisions.close([Culprit(PartKind.COOLING, "")], "", "1")
        two.decisions.close([Culprit(PartKind.MEMORY, "")], "", "2")
        assert {job.job for job in read_closed_jobs(shop)} == {"one", "two"}
    finally:
        one.close()
        two.close()


def test_many_writers_at_once_lose_nothing(tmp_path: Path) -> None:
    """Eight threads with descriptors of their own, as eight processes would have."""
    parts = [ShopPart(tag=f"SHOP-{n}", kind=PartKind.MEMORY, name="Mussel Bank") for n in range(8)]
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda part: change_shelf(tmp_path, Shelf(), Shelf(parts=(part,))), parts))
    assert set(read_shelf(tmp_path).parts) == set(parts)


def test_a_file_that_was_damaged_meanwhile_is_not_written_over(tmp_path: Path) -> None:
    change_shelf(tmp_path, Shelf(), Shelf())
    shelf_path(tmp_path).write_text("{ damaged")
    with pytest.raises(InputError, match=r"shelf\.json"):
        change_shelf(tmp_path, Shelf(), Shelf(parts=()))
    assert shelf_path(tmp_path).read_text() == "{ damaged"
