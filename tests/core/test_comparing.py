"""Several finished files compared in step: what they were made from is decoded once, and each is told the same."""

from __future__ import annotations

import gc
import weakref
from collections import deque
from collections.abc import Iterator
from pathlib import Path

import pytest

from boxkite.core.batch.packing import unpack
from boxkite.core.errors import DamagedError
from boxkite.core.records.store import Records
from boxkite.core.render import comparing_audio, shared_reading
from boxkite.core.render.comparing import ToCompare, compare
from boxkite.core.render.shared_reading import SharedReading, parts_of
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.verification import boxkite

PRESETS = ("web-720", "review", "stock", "copy")


@pytest.fixture(scope="module")
def batch(tmp_path_factory: pytest.TempPathFactory) -> str:
    """Of one shot in four presets."""
    place = tmp_path_factory.mktemp("comparing")
    rate = FrameRate.parse("25")
    write_movie(Movie(place / "film.mov", 50, rate, ((0, VAT), (20, LOFT)), width=320, height=180))
    outputs = [word for preset in PRESETS for word in ("--to", f"{preset}:{preset}")]
    done = boxkite("run", "film.mov", "--by", "files", *outputs, "--json", cwd=place)
    assert done.status == 0, done.err
    return str(done.json["batch"])


def to_compare(batch: str) -> list[ToCompare]:
    with Records() as records:
        content = records.packed_plan(batch)
    assert content
    return [ToCompare(row.path, row) for row in unpack(content).rows]


@pytest.mark.parametrize("cores", [1, 2])
def test_a_source_is_read_once_for_all_its_files_and_each_is_told_what_it_is_told_alone(
    batch: str, cores: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    files = to_compare(batch)
    alone = [compare([file], 1)[0] for file in files]
    read: list[str] = []
    for module, name in ((shared_reading, "open_frames"), (comparing_audio, "open_audio")):
        real = getattr(module, name)
        monkeypatch.setattr(
            module, name, lambda *words, real=real, name=name: read.append(name) or real(*words)
        )
    assert compare(files, cores) == alone
    assert sorted(read) == ["open_audio", "open_frames"]
    assert all(len(one.psnr_db) == 50 and not one.faults for one in alone)


def test_a_file_that_has_gone_or_ends_early_leaves_the_others_as_they_are(batch: str, tmp_path: Path) -> None:
    files = to_compare(batch)
    alone = [compare([file], 1)[0] for file in files]
    (tmp_path / "cut.mp4").write_bytes(files[1].path.read_bytes()[:-2000])
    files[1].path = tmp_path / "cut.mp4"
    files[2].path = tmp_path / "gone.mov"
    found = compare(files, 2)
    assert found[1].faults and found[2].faults
    assert (found[0], found[3]) == (alone[0], alone[3])


class Kept(deque):
    """A queue that remembers how long it was at most."""

    longest = 0

    def append(self, one: object) -> None:
        super().append(one)
        Kept.longest = max(Kept.longest, len(self))


@pytest.mark.parametrize("cores", [1, 2])
def test_few_frames_are_kept_for_a_file_that_takes_longer_over_them_or_reads_no_more(
    batch: str, tmp_path: Path, cores: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One shows each frame three times, one no longer has the size that was planned."""
    source = to_compare(batch)[0].row.shot.footage.source.path
    slow = tmp_path / "slow.toml"
    slow.write_text('container = "mp4"\nrate = "75"\n[video]\ncodec = "h264"\nspeed = "fast"\n')
    outputs = [
        word
        for preset in ("web-720", slow, "review")
        for word in ("--to", f"{preset}:{tmp_path}/{Path(preset).stem}")
    ]
    done = boxkite("run", source, "--by", "files", *outputs, "--json")
    assert done.status == 0, done.err
    files = to_compare(done.json["batch"])
    files[2].path = files[0].path
    monkeypatch.setattr(shared_reading, "deque", Kept)
    Kept.longest = 0
    found = compare(files, cores)
    assert [len(one.psnr_db) for one in found] == [50, 150, 0]
    assert [[fault.kind for fault in one.faults] for one in found[:2]] == [[], []] and found[2].faults
    assert 0 < Kept.longest <= shared_reading.MOST_KEPT + 1


class Picture:
    """Stands for a frame."""


def test_what_reading_raises_is_raised_to_each_reader_after_the_frames_before_it(
    batch: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    def frames(*_: object) -> Iterator[tuple[int, Picture]]:
        yield from ((number, Picture()) for number in range(3))
        raise DamagedError("it breaks off")

    monkeypatch.setattr(shared_reading, "open_frames", frames)
    rows = [file.row for file in to_compare(batch)][:2]
    reading = SharedReading(rows, 1, is_threaded=False)
    for reader, row in enumerate(rows):
        got = reading.frames(reader, row, 0)
        assert [next(got)[0] for _ in range(3)] == [0, 1, 2]
        with pytest.raises(DamagedError):
            next(got)


def test_frames_are_kept_for_no_reader_that_has_left(batch: str, monkeypatch: pytest.MonkeyPatch) -> None:
    pictures: list[weakref.ref[Picture]] = []

    def frames(*_: object) -> Iterator[tuple[int, Picture]]:
        for number in range(5):
            pictures.append(weakref.ref(picture := Picture()))
            yield number, picture
            del picture

    monkeypatch.setattr(shared_reading, "open_frames", frames)
    rows = [file.row for file in to_compare(batch)][:3]
    assert len({parts_of(row) for row in rows}) == 1
    reading = SharedReading(rows, 1, is_threaded=False)
    reading.leave(2)  # before anything is read
    late = reading.frames(1, rows[1], 0)
    assert [number for number, _ in reading.frames(0, rows[0], 0)] == [0, 1, 2, 3, 4]
    assert all(picture() for picture in pictures)
    assert next(late)[0] == 0
    reading.leave(1)
    late.close()
    gc.collect()
    assert not any(picture() for picture in pictures)
