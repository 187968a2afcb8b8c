"""Files from strangers, damaged at random: every reader ends with a result or one of our errors, soon and small.

$BOXKITE_FUZZ says how many inputs each reader gets; `make fuzz` gives all readers 10,000 together.
"""

from __future__ import annotations

import os
import random
import resource
import struct
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from boxkite.core.edit.edl.timelines import read_edl_edit
from boxkite.core.edit.otio.reading import read_otio_edit
from boxkite.core.edit.reading import read_marks
from boxkite.core.errors import BoxkiteError
from boxkite.core.footage.exr import layers_of, only_part
from boxkite.core.marks.mark_table import read_mark_rows
from boxkite.core.metadata.joining import join_table
from boxkite.core.metadata.wave import read_wave
from boxkite.core.metadata.xmp import read_sidecar
from boxkite.core.shots.edit_clips import wanted_clips, wanted_timelines
from boxkite.core.timebase import FrameRate
from tests.builders import day_edit
from tests.cli.test_colour import write_exr
from tests.core.test_metadata import LOG, XMP, wave

COUNT = int(os.environ.get("BOXKITE_FUZZ", "110"))
LONGEST_SECONDS = 5
PROCESS = Path("/proc/self")
MOST_BYTES = 700 * 1024 * 1024
PIECES = [
    b"\0", b"\xff" * 9, b"[" * 300, b"{" * 300, b"<" * 50, b"999999999999", b"-1", b"NaN", b"1e999", b"\n", b"\t",
    b"01:00:00:00", b"99:99:99:99", b"00:01:00;00", b"M2 ", b"|M:", b"* LOC: ", b"FCM: DROP FRAME\n", b"null", b'"',
    b"<!DOCTYPE x [<!ENTITY a '&b;&b;'>]>", b"&a;", "é…\u202e".encode(), b"../" * 40, b"%00", b"\xfe\xff", b";", b"\r",
]  # fmt: skip


def damaged(original: bytes, chance: random.Random) -> bytes:
    """A few bytes changed, taken out, doubled, swapped or put in."""
    data = bytearray(original)
    for _ in range(chance.choice((1, 1, 2, 4, 12))):
        at, size = chance.randrange(len(data) + 1), chance.choice((1, 2, 8, 60, 400))
        way = chance.randrange(6)
        if way == 0:
            data[at : at + size] = b""
        elif way == 1:
            data[at:at] = chance.choice(PIECES)
        elif way == 2:
            data[at : at + 1] = bytes([chance.randrange(256)])
        elif way == 3:
            data[at:at] = data[at : at + size] * chance.choice((1, 2, 30))
        elif way == 4:
            other = chance.randrange(len(data) + 1)
            data[at : at + size] = data[other : other + size]
        else:
            data = data[:at] if chance.random() < 0.2 else data
    return bytes(data[: 4 * len(original) + 1000])


def shots_of(path: Path) -> None:
    edit = read_otio_edit(path) if path.suffix == ".otio" else read_edl_edit(path, FrameRate.parse("29.97"))
    for timeline in edit.timelines:
        wanted_clips(timeline, "fuzz")
    wanted_timelines(edit.timelines, 3, "fuzz")


@pytest.fixture(scope="module")
def originals(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    folder = tmp_path_factory.mktemp("originals")
    day_edit().write(folder)
    write_exr(folder / "x.exr", {"": 0.25, "key": 0.5}, {"": 0.75}, views=("left", "right"))
    form = struct.pack("<HHIIHH", 1, 1, 48000, 96000, 2, 16)
    ixml = b"<BWFXML><SCENE>6</SCENE><TAKE>2</TAKE><CIRCLED>TRUE</CIRCLED></BWFXML>"
    return {
        ".edl": (folder / "day-cut.edl").read_bytes() + b"* ASC_SOP: (1 1 1)(0 0 0)(1 1 1)\n |C:Red |M:x |D:9\n",
        ".otio": (folder / "day.otio").read_bytes(),
        ".csv": b'source,name,in,out,keywords,note,circled\nA,dip,10:00:00:00,2s,"a, b",x,yes\nB,lift,5,9,,,\n' * 3,
        ".ale": LOG.encode() + b"A-vat2\tA003\t10:00:00:00\t3\t1\n",
        ".xmp": XMP.encode(),
        ".exr": (folder / "x.exr").read_bytes(),
        ".wav": wave((b"fmt ", form), (b"bext", b"sTAPE=S07\r\n" + b"\1" * 600), (b"iXML", ixml), (b"data", b"\0\0")),
    }  # fmt: skip


READERS: dict[str, tuple[str, Callable[[Path], object]]] = {
    "events of an edit list": (".edl", shots_of),
    "markers of an edit list": (".edl", read_marks),
    "a timeline": (".otio", shots_of),
    "a table of ranges": (".csv", read_marks),
    "a table of marks": (".csv", read_mark_rows),
    "a table of metadata": (".csv", lambda path: join_table(path, (), None)),
    "a log": (".ale", lambda path: join_table(path, (), None)),
    "a sidecar": (".xmp", read_sidecar),
    "wave chunks": (".wav", read_wave),
    "layers of an image": (".exr", layers_of),
    "a part of an image": (".exr", lambda path: only_part(path.read_bytes(), 1)),
}


def peak_bytes() -> int:
    """The most memory this process has held since the peak was set back."""
    if PROCESS.is_dir():
        [line] = [line for line in (PROCESS / "status").read_text().splitlines() if line.startswith("VmHWM")]
        return int(line.split()[1]) * 1024
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def fresh_peak_bytes() -> int:
    """What it holds now, after setting the peak back: what other tests of the process held does not count."""
    if PROCESS.is_dir():
        (PROCESS / "clear_refs").write_text("5")
    return peak_bytes()


@pytest.mark.parametrize("reader", READERS)
def test_damaged_files_end_in_a_result_or_in_one_of_our_errors(
    reader: str, originals: dict[str, bytes], tmp_path: Path
) -> None:
    suffix, read = READERS[reader]
    chance = random.Random(f"{reader} {COUNT}")
    path = tmp_path / f"a{suffix}"
    before = fresh_peak_bytes()
    for number in range(COUNT):
        path.write_bytes(damaged(originals[suffix], chance))
        started = time.monotonic()
        try:
            read(path)
        except BoxkiteError as error:
            assert "\n" not in error.message and len(error.message) < 2000, number
        assert time.monotonic() - started < LONGEST_SECONDS, number
    assert peak_bytes() - before < MOST_BYTES


@pytest.mark.parametrize("place", [1 << 40, (1 << 63) + 1])
def test_a_block_that_no_file_can_hold_breaks_a_part_of_an_image_off(
    place: int, originals: dict[str, bytes]
) -> None:
    image, blocks = originals[".exr"], 2 * 48
    table = next(at for at in range(len(image)) if struct.unpack_from("<Q", image, at)[0] == at + 8 * blocks)
    assert len(only_part(image, 1)) > 8
    broken = bytearray(image)
    struct.pack_into("<Q", broken, table + 8 * 48, place)
    assert only_part(bytes(broken), 1) == image[:8]
