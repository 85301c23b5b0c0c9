"""Files of the shop that another program wrote: a newer one is left as it is, and never written over."""

from pathlib import Path

import msgspec
import pytest

from thresher.engine.assembly import open_engine
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import PartKind
from thresher.shop.store import NewerFile, Shelf, ShopPart, read_shelf, shelf_path, write_shelf
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario


def test_a_newer_shelf_is_refused_left_in_place_and_not_overwritten(tmp_path: Path, ferry: Scenario) -> None:
    shop = tmp_path / "shop"
    write_shelf(shop, Shelf(parts=(ShopPart(tag="SHOP-1", kind=PartKind.MEMORY, name="Mussel Bank"),)))
    path = shelf_path(shop)
    data = msgspec.json.decode(path.read_bytes())
    name, _, number = data["format"].partition("/")
    path.write_bytes(msgspec.json.encode(data | {"format": f"{name}/{int(number) + 1}", "new": [1, 2]}))
    before = path.read_bytes()
    with pytest.raises(NewerFile, match="newer Thresher"):
        read_shelf(shop)
    with pytest.raises(EnvironmentFault, match="newer Thresher wrote it"):
        write_shelf(shop, Shelf())
    engine = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "job.thresher", shop=shop)
    assert any(entry.title == "A file of the shop is newer than this program" for entry in engine.snapshot().tape)
    engine.close()
    assert path.read_bytes() == before
    assert [each.name for each in shop.iterdir() if "unreadable" in each.name] == []
