"""Shots cut exactly of which only the ends are encoded: every frame, every sample, and never a wrong file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from msgspec.structs import replace

import boxkite as library
from boxkite.core.plan.rows import Row
from boxkite.core.render import making
from boxkite.core.render.splice import h264, splicing, writing
from tests.splices.comparing import Decoded, digest, is_encoded_whole, wrong_in
from tests.splices.sources import write_source
from tests.verification import audio_of, boxkite, kinds

SPANS = ((3, 60), (31, 120), (0, 44), (58, 59), (40, 87))
CODINGS = ("gop12", "pyramid", "high10", "grey", "scaling-lists-444", "cropped", "mkv-cavlc", "ts", "repeated-sets",
           "hevc-pyramid", "hevc-tools", "hevc-main10")  # fmt: skip


def cut_exactly(folder: Path, name: str, *more: str, spans: tuple[tuple[int, int], ...] = SPANS) -> Any:
    """Write the source of a coding, cut it at spans, and return what run says."""
    source = write_source(name, folder)
    rows = "".join(f"s{start},{start},{end}\n" for start, end in spans)
    (folder / "marks.csv").write_text(f"name,in,out\n{rows}")
    return boxkite("run", source.name, "--by", "ranges", "--marks", "marks.csv", "--names", "@marker", "--to",
                   "copy:out", "--exact-cuts", "--json", *more, cwd=folder)  # fmt: skip


@pytest.mark.parametrize("name", CODINGS)
def test_differently_coded_footage_is_cut_at_any_frame(name: str, tmp_path: Path) -> None:
    spans = SPANS if name != "ts" else tuple(span for span in SPANS if span != (58, 59))
    done = cut_exactly(tmp_path, name, spans=spans)
    assert done.status == 0, done.out + done.err
    whole = Decoded.of(next(tmp_path.glob(f"{name}.*")))
    spliced = 0
    for file, span in zip(done.json["files"], spans, strict=True):
        assert wrong_in(file, whole.part(*span)) == [], (name, span)
        if file["how"] == "splice" and not is_encoded_whole(file):
            spliced += 1
            assert file["encoded_frames"] + file["copied_frames"] == span[1] - span[0]
    assert spliced >= 2


@pytest.mark.parametrize("name", ["interlaced", "open", "refresh", "hevc-open"])
def test_what_cannot_be_joined_is_encoded_whole_and_the_row_says_why(name: str, tmp_path: Path) -> None:
    done = cut_exactly(tmp_path, name, spans=((3, 20), (70, 90)))
    assert done.status == 0 and [file["how"] for file in done.json["files"]] == ["encode", "encode"]
    warnings = [one for file in done.json["files"] for one in file["warnings"]]
    reasons = {one["values"]["reason"] for one in warnings if one["kind"] == "encoded-not-copied"}
    expected = (
        "it is interlaced"
        if name == "interlaced"
        else "there is no keyframe in it that decoding can start at"
    )
    assert reasons == {expected}
    (shown,) = boxkite("inspect", f"{name}.mp4", "--deep", "--json", cwd=tmp_path).json["sources"]
    told = shown["deep"]["exact_cuts"]
    assert (
        told["encode_because"] == "it is interlaced"
        if name == "interlaced"
        else told["encoded_at_most"] >= 120
    )


def test_audio_begins_at_the_very_sample_and_the_plan_counts_frames(tmp_path: Path) -> None:
    done = cut_exactly(tmp_path, "gop25", spans=((7, 60), (31, 118)))
    assert done.status == 0
    own, rate = audio_of(tmp_path / "gop25.mp4")
    for start, end in ((7, 60), (31, 118)):
        made, _ = audio_of(tmp_path / f"out/s{start}.mp4")
        samples = (end - start) * rate // 25
        wanted = own[start * rate // 25 :][:samples]
        assert samples <= len(made) < samples + 2 * 1024  # readers give out the last packet whole
        assert np.abs(made[: len(wanted)] - wanted).max() < 1e-4
    (found,) = boxkite("inspect", "gop25.mp4", "--deep", "--json", cwd=tmp_path).json["sources"]
    assert found["deep"]["exact_cuts"] == {"encoded_at_most": 25, "encode_because": None}
    shown = boxkite("plan", "gop25.mp4", "--by", "ranges", "--marks", "marks.csv", "--names", "@marker",
                    "--to", "copy:again", "--exact-cuts", cwd=tmp_path)  # fmt: skip
    encoded = sum(file["encoded_frames"] for file in done.json["files"])
    copied = sum(file["copied_frames"] for file in done.json["files"])
    assert f"cut exactly: 2 files, {encoded} frames at their ends encoded, {copied} copied" in shown.out
    assert f"{done.json['files'][0]['encoded_frames']} encoded" in shown.out


def test_exact_cuts_of_one_source_become_one_file(tmp_path: Path) -> None:
    spans = ((3, 60), (50, 120), (20, 50))  # one of them up to the end
    done = cut_exactly(tmp_path, "pyramid", "--joined", "only", spans=spans)
    assert done.status == 0, done.out
    (file,) = done.json["files"]
    whole = Decoded.of(tmp_path / "pyramid.mp4")
    parts = [whole.part(*span) for span in spans]
    wanted = Decoded([n / 25 for n in range(157)], [frame for part in parts for frame in part.frames])
    assert file["how"] == "splice" and wrong_in(file, wanted) == []
    refused = cut_exactly(tmp_path, "open", "--joined", "only", spans=((3, 20), (70, 90)))
    assert refused.status == 2 and "s3" in refused.err


def planned_row(folder: Path) -> Row:
    """A row to be spliced with frames at both ends to be encoded."""
    (folder / "marks.csv").write_text("name,in,out\nshot,7,71\n")
    job = library.Job(str(folder / "pyramid.mp4"), [library.Output("copy", str(folder / "out"))], by=["ranges"],
                      marks=str(folder / "marks.csv"), names="@marker", exact_cuts=True)  # fmt: skip
    (row,) = library.plan(job).rows
    assert row.splice and row.splice.head and row.splice.tail
    return row


def _changed(data: bytes, place: int) -> bytes:
    """The same with one bit turned over."""
    return data[:place] + bytes([data[place] ^ 4]) + data[place + 1 :]


def _wrong_numbers(patch: pytest.MonkeyPatch) -> None:
    own = h264.rewritten
    patch.setattr(
        h264, "rewritten", lambda unit, encoded, **numbers: own(unit, encoded, **{**numbers, "after_idr": 1})
    )


def _wrong_pictures(patch: pytest.MonkeyPatch) -> None:
    own = h264.rewritten

    def damaged(unit: bytes, encoded: Any, **numbers: Any) -> bytes:
        made = own(unit, encoded, **numbers)
        return _changed(made, len(made) // 2)

    patch.setattr(h264, "rewritten", damaged)


def _flipped_in_the_file(patch: pytest.MonkeyPatch) -> None:
    own = splicing.write_file

    def flipped(row: Row, partial: Path, *more: Any) -> Any:
        copied = own(row, partial, *more)
        partial.write_bytes(_changed(partial.read_bytes(), partial.stat().st_size * 3 // 4))
        return copied

    patch.setattr(splicing, "write_file", flipped)


def _set_missing(patch: pytest.MonkeyPatch) -> None:
    header = property(lambda stream: stream.prepared[0].pictures.header.written())
    patch.setattr(writing.SplicedStream, "header", header)


def _late(patch: pytest.MonkeyPatch) -> None:
    own = writing.SplicedPictures.take

    def late(self: Any, packet: Any) -> Any:
        made = own(self, packet)
        if made and len(self.coded) > 60:
            made.pts += 512
        return made

    patch.setattr(writing.SplicedPictures, "take", late)


def _copied_bit(patch: pytest.MonkeyPatch) -> None:
    own = writing.SplicedPictures.take

    def changed(self: Any, packet: Any) -> Any:
        made = own(self, packet)
        if made and len(self.coded) == 40:  # far from both joins, so that no decoding shows it
            made.update(_changed(bytes(made), made.size // 2))
        return made

    patch.setattr(writing.SplicedPictures, "take", changed)


def _other_order(patch: pytest.MonkeyPatch) -> None:
    own = h264.shown_order
    patch.setattr(h264, "shown_order", lambda pictures, sequence: own(pictures, sequence)[::-1])


def _one_lost(patch: pytest.MonkeyPatch) -> None:
    own = writing.SplicedPictures.take

    def lost(self: Any, packet: Any) -> Any:
        made = own(self, packet)
        return None if len(self.coded) == 30 else made

    patch.setattr(writing.SplicedPictures, "take", lost)


SABOTAGES = (
    _wrong_numbers,
    _wrong_pictures,
    _flipped_in_the_file,
    _set_missing,
    _late,
    _copied_bit,
    _other_order,
    _one_lost,
)


@pytest.mark.parametrize("sabotage", SABOTAGES, ids=lambda one: one.__name__.strip("_"))
def test_what_does_not_hold_is_encoded_whole_and_never_a_wrong_file(
    sabotage: Callable[[pytest.MonkeyPatch], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_source("pyramid", tmp_path)
    row, wanted = planned_row(tmp_path), Decoded.of(tmp_path / "pyramid.mp4").part(7, 71)
    partial = tmp_path / "made.mp4"
    (sound,) = making.make_files([row], [partial], threads=1)
    assert sound.verification and sound.warnings == ()
    exactly_copied = {frame.tobytes() for frame in Decoded.of(partial).frames} & {
        frame.tobytes() for frame in wanted.frames
    }
    assert len(exactly_copied) == row.splice.body
    sabotage(monkeypatch)
    (result,) = making.make_files([row], [partial], threads=1)
    assert result.verification and kinds([{"kind": one.kind} for one in result.warnings]) == [
        "encoded-not-copied"
    ]
    made = Decoded.of(partial)
    assert len(made.frames) == 64 and digest(made) != digest(wanted)
    whole = replace(row, splice=None)
    (encoded,) = making.make_files([whole], [tmp_path / "whole.mp4"], threads=1)
    assert encoded.verification and digest(Decoded.of(tmp_path / "whole.mp4")) == digest(made)
