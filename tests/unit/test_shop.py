"""The shop's files: kept whole, refused in words, never lost."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import Part, PartKind
from thresher.shop.own_sheets import save_sheet
from thresher.shop.store import (
    MachineFile,
    Shelf,
    ShopPart,
    Trust,
    Visit,
    change_machine,
    change_shelf,
    machine_path,
    own_sheets,
    put_aside,
    read_machine,
    read_shelf,
    shelf_path,
)

MODULE = ShopPart(
    tag="SHOP-M1", kind=PartKind.MEMORY, name="Mussel Bank MB-16D5", proved="2026-03-02", note="loud label"
)


def test_a_shelf_reads_back_and_an_unknown_one_is_empty(tmp_path: Path) -> None:
    assert read_shelf(tmp_path) == Shelf()
    change_shelf(tmp_path, Shelf(), Shelf(parts=(MODULE,)))
    assert read_shelf(tmp_path).parts == (MODULE,)
    assert sorted(path.name for path in tmp_path.iterdir()) == [".lock", "shelf.json"], "nothing half-written is left"


@given(st.text(max_size=30), st.text(max_size=30), st.booleans())
def test_any_words_of_a_machine_file_read_back(
    tmp_path_factory: pytest.TempPathFactory, a: str, b: str, c: bool
) -> None:
    folder = tmp_path_factory.mktemp("shop")
    visit = Visit(wall=1.5, job=a, number=b, parts=(Part("memory A1", PartKind.MEMORY, b, a),))
    machine = MachineFile(name=a, trust=(Trust(channel=a, trusted=c, reason=b, date="2026-03-17"),)).visited(visit)
    change_machine(folder, "k", lambda _: machine)
    assert read_machine(folder, "k") == machine


def test_parts_that_cannot_be_distinguished_are_refused_and_the_old_shelf_stays(tmp_path: Path) -> None:
    change_shelf(tmp_path, Shelf(), Shelf(parts=(MODULE,)))
    nameless = ShopPart(tag=" ", kind=PartKind.DRIVE, name="x", proved="yesterday")
    with pytest.raises(InputError) as caught:
        change_shelf(tmp_path, Shelf(), Shelf(parts=(MODULE, MODULE, nameless)))
    assert {fault.place for fault in caught.value.faults} == {"SHOP-M1", "tag", " "}
    assert read_shelf(tmp_path).parts == (MODULE,)


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("{", "JSON"),
        ("[]", "format"),
        ('{"format": "thresher-shelf/9"}', "format"),
        ('{"format": "thresher-shelf/1", "parts": [{"tag": 1}]}', "JSON"),
    ],
)
def test_a_broken_file_states_where_and_can_be_put_aside_whole(tmp_path: Path, text: str, place: str) -> None:
    shelf_path(tmp_path).write_text(text)
    with pytest.raises(InputError) as caught:
        read_shelf(tmp_path)
    assert caught.value.faults[0].place == place
    assert str(shelf_path(tmp_path)) in str(caught.value)
    first = put_aside(shelf_path(tmp_path))
    shelf_path(tmp_path).write_text(text)
    assert put_aside(shelf_path(tmp_path)) != first
    assert first.read_text() == text


def test_a_folder_that_may_not_be_written_is_reported(tmp_path: Path) -> None:
    (tmp_path / "machines").write_text("a file where the folder should be")
    with pytest.raises(EnvironmentFault, match=r"writing|making the folder"):
        change_machine(tmp_path, "k", lambda file: file)
    assert machine_path(tmp_path, "k").parent.read_text() == "a file where the folder should be"


def test_a_job_has_one_visit_and_the_one_before_is_another_jobs() -> None:
    first = Visit(wall=1.0, job="a", number="1", parts=())
    again, later = Visit(wall=2.0, job="a", number="1", parts=()), Visit(wall=3.0, job="b", number="2", parts=())
    machine = MachineFile().visited(first).visited(again).visited(later)
    assert machine.visits == (again, later)
    assert machine.before("b") == again
    assert machine.before("c") == later
    assert MachineFile().visited(first).before("a") is None


def test_sheets_are_kept_under_names_of_their_own(tmp_path: Path) -> None:
    paths = [save_sheet(tmp_path, "Heat hunt, 22 min", f"text {n}") for n in range(2)]
    assert [path.stem for path in paths] == ["heat-hunt-22-min", "heat-hunt-22-min-2"]
    assert list(own_sheets(tmp_path)) == ["heat-hunt-22-min", "heat-hunt-22-min-2"]
    assert paths[0].read_text() == "text 0"
