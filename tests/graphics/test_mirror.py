"""The newest frame handed from the process that draws to the window that shows."""

import os
import struct
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.graphics.mirror import MirrorReader, MirrorWriter
from thresher.model.errors import SourceUnavailable


def test_a_frame_comes_over_once_and_whole(tmp_path: Path) -> None:
    path = str(tmp_path / "card0.mirror")
    writer = MirrorWriter(path, (4, 2))
    assert Path(path).stat().st_mode & 0o077 == 0
    reader = MirrorReader(path)
    assert reader.newest() is None
    writer.show(3, bytes(range(32)))
    frame = reader.newest()
    assert frame is not None
    assert (frame.number, frame.width, frame.height, frame.pixels) == (3, 4, 2, bytes(range(32)))
    assert reader.newest() is None
    writer.show(4, bytes(32))
    assert reader.newest() is not None


def test_a_frame_that_is_being_written_is_not_shown(tmp_path: Path) -> None:
    path = tmp_path / "half"
    path.write_bytes(struct.pack("<4I", 7, 1, 1, 0) + b"\0\0\0\0")  # an odd count
    assert MirrorReader(str(path)).newest() is None


def test_an_older_file_stays_as_it_was_for_whoever_reads_it(tmp_path: Path) -> None:
    path = str(tmp_path / "m")
    first = MirrorWriter(path, (2, 2))
    first.show(1, b"a" * 16)
    reader = MirrorReader(path)
    MirrorWriter(path, (8, 8)).show(1, b"b" * 256)
    frame = reader.newest()
    assert frame is not None
    assert frame.pixels == b"a" * 16


def test_what_is_no_mirror_is_said(tmp_path: Path) -> None:
    with pytest.raises(SourceUnavailable, match="No such file"):
        MirrorReader(str(tmp_path / "none"))
    (tmp_path / "short").write_bytes(b"abc")
    with pytest.raises(SourceUnavailable, match="no frame is in it yet"):
        MirrorReader(str(tmp_path / "short"))
    (tmp_path / "link").symlink_to(tmp_path / "short")
    with pytest.raises(SourceUnavailable):
        MirrorReader(str(tmp_path / "link"))
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(SourceUnavailable):
        MirrorReader(str(tmp_path / "pipe"))
    with pytest.raises(SourceUnavailable):
        MirrorWriter(str(tmp_path / "no" / "folder"), (2, 2))


@given(st.binary(min_size=16, max_size=400))
def test_any_content_gives_a_frame_that_fits_or_none(content: bytes) -> None:
    import tempfile

    with tempfile.NamedTemporaryFile() as file:
        file.write(content)
        file.flush()
        frame = MirrorReader(file.name).newest()
        if frame is not None:
            assert len(frame.pixels) == frame.width * frame.height * 4 <= len(content) - 16
