"""One long shot encoded in chunks by several workers: the same frames as in one piece, whatever becomes of a chunk."""

from __future__ import annotations

import dataclasses
import os
import signal
import subprocess
import time
from pathlib import Path

import av
import psutil
import pytest
from msgspec.structs import replace

import boxkite as library
from boxkite.core.batch.events import FileEnded
from boxkite.core.batch.executors.executor import WorkerEvent
from boxkite.core.batch.executors.messages import WorkerMessage
from boxkite.core.batch.running import BatchControl, run_plan
from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h264_slices import read_slice
from boxkite.core.footage.bitstream.nal_units import AvcHeader
from boxkite.core.presets.coding import Audio
from boxkite.core.render.making import make_files
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, PRESS, VAT
from tests.verification import PROGRAM, assert_holds, boxkite, decoded_hash, frames_of, kinds

RATE = FrameRate.parse("6")
"""Slow, so that a few frames are long enough for chunks."""
FRAMES = 187
INTRA = ("stock", "archive", "stock-dnxhr", "still")
PRESETS = {
    "still": 'container = "mov"\n[video]\ncodec = "mjpeg"\nquality = 80\n[audio]\ncodec = "pcm16"\n',
    "later": 'container = "mp4"\nfit = "320x180"\n[video]\ncodec = "hevc"\nquality = 24\nspeed = "fast"\n'
             'keyframe_seconds = 1\n[audio]\ncodec = "aac"\nbitrate_kbps = 128\n',
    "every": 'container = "mp4"\n[video]\ncodec = "h264"\nquality = 20\nspeed = "fast"\nkeyframe_seconds = 0.1\n',
    "half": 'container = "mkv"\nrate = 3\n[video]\ncodec = "h264"\nspeed = "fast"\nquality = 20\n'
            '[[burn_in]]\ntext = "@timecode @shotframe"\n',
}  # fmt: skip


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("film")
    scenes = ((0, VAT), (80, LOFT), (130, PRESS))
    write_movie(Movie(folder / "film.mov", FRAMES, RATE, scenes, width=640, height=360))
    (folder / "presets").mkdir()
    for name, text in PRESETS.items():
        (folder / "presets" / f"{name}.toml").write_text(text)
    return folder


def run(film: Path, preset: str, out: Path, *more: str):
    env = {**os.environ, "BOXKITE_PRESETS": str(film / "presets")}
    done = boxkite(
        "run", "film.mov", "--by", "files", "--to", f"{preset}:{out}", "--json", *more, cwd=film, env=env
    )
    assert done.status == 0, done.out + done.err
    return done.json


def quantiser_of(path: Path, place: int) -> int:
    """Of the keyframe at a place among the frames of an H.264 file."""
    with av.open(str(path)) as container:
        packets = [packet for packet in container.demux(video=0) if packet.size]
        header = AvcHeader.read(bytes(container.streams.video[0].codec_context.extradata))
    packet = sorted(packets, key=lambda packet: packet.pts)[place]
    assert packet.is_keyframe
    sets = {one.number: one for one in map(PictureSet.read, header.picture_sets)}
    unit = next(unit for unit in header.framing.units(bytes(packet)) if header.is_slice(unit))
    return read_slice(unit, sets, SequenceSet.read(header.sequence_sets[0])).quantiser


USUAL = ("web", "half")
OTHERS = ("stock", "later", "archive", "stock-dnxhr", "still", "every", "web-vp9", "web-av1", "review")


@pytest.mark.parametrize("preset", USUAL + OTHERS if "BOXKITE_EVERY_CODEC" in os.environ else USUAL)
def test_chunks_become_the_file_that_one_piece_becomes(film: Path, tmp_path: Path, preset: str) -> None:
    told = run(film, preset, tmp_path / "chunks", "--in-chunks", "--workers", "2")
    (made,) = told["files"]
    warned = ["audio-left-out"] if preset in ("every", "half") else []
    assert made["chunks"] in (4, 6, 7) and kinds(made["warnings"]) == warned
    run(film, preset, tmp_path / "whole")
    (chunked,), (whole,) = (tmp_path / "chunks").iterdir(), (tmp_path / "whole").iterdir()
    if preset in INTRA:
        assert decoded_hash(chunked) == decoded_hash(whole)
        assert (
            chunked.read_bytes() == whole.read_bytes() or chunked.suffix == ".mkv"
        )  # which has random numbers
    elif preset == "half":
        assert [frame for _, frame in frames_of(chunked)] == list(range(0, FRAMES, 2))
    elif preset == "review":
        assert frames_of(chunked) == frames_of(whole)
    elif preset == "web":
        assert_holds(chunked, Span(0, FRAMES), RATE)
        assert quantiser_of(chunked, 72) == quantiser_of(whole, 72), (
            "a chunk begins as finely as any keyframe"
        )
    else:
        assert_holds(chunked, Span(0, FRAMES), RATE, sample_slack=None if preset == "every" else 1)


def rows_of(film: Path, preset: str, out: Path):
    job = library.Job(film / "film.mov", [library.Output(preset, out)], by="files", in_chunks=True)
    return library.plan(job).rows


def chunks_of(rows, folder: Path) -> list[Path]:
    folder.mkdir()
    paths = [folder / str(place) for place in range(len(rows[0].chunks))]
    for path, span in zip(paths, rows[0].chunks, strict=True):
        (result,) = make_files(rows, [path], threads=1, chunk=span)
        assert result.failure == ""
    return paths


def flip_a_byte(paths: list[Path]) -> None:
    content = bytearray(paths[1].read_bytes())
    content[len(content) // 2] ^= 1
    paths[1].write_bytes(content)


@pytest.mark.parametrize("harm", [
    flip_a_byte,
    lambda paths: paths[2].unlink(),
    lambda paths: paths[1].write_bytes(paths[1].read_bytes()[:-1000]),
    lambda paths: paths[0].write_bytes(b""),
])  # fmt: skip
def test_where_a_chunk_is_not_as_it_was_the_shot_is_encoded_in_one_piece_and_the_row_says_so(
    film: Path, tmp_path: Path, harm, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("BOXKITE_PRESETS", str(film / "presets"))
    rows, out = rows_of(film, "half", tmp_path), tmp_path / "out.mkv"
    chunks = chunks_of(rows, tmp_path / "chunks")
    harm(chunks)
    (result,) = make_files(rows, [out], threads=1, chunks=[chunks])
    assert result.failure == "" and [notice.kind for notice in result.warnings] == ["not-in-chunks"]
    assert [frame for _, frame in frames_of(out)] == list(range(0, FRAMES, 2))


def test_keyframes_that_decoders_take_for_one_do_not_meet(
    film: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("BOXKITE_PRESETS", str(film / "presets"))
    rows = rows_of(film, "every", tmp_path)
    assert all(span.length % 2 == 0 for span in rows[0].chunks[:-1])
    rows = (replace(rows[0], chunks=(Span(0, 61), Span(61, FRAMES))),)
    chunks = chunks_of(rows, tmp_path / "chunks")
    (result,) = make_files(rows, [tmp_path / "out.mp4"], threads=1, chunks=[chunks])
    assert result.failure == "" and "take for one" in str(result.warnings[-1].values)


def test_what_cannot_be_encoded_in_chunks_is_encoded_in_one_piece_and_the_plan_says_why(
    film: Path, tmp_path: Path
) -> None:
    for preset, reason in (("web-small", "two passes"), ("frames-jpeg", "folder of images")):
        (row,) = rows_of(film, preset, tmp_path)
        (notice,) = (one for one in row.warnings if one.kind == "not-in-chunks")
        assert row.chunks == () and reason in str(notice.values)
    (row,) = rows_of(film, "audio-wav", tmp_path)
    assert row.chunks == () and row.warnings == ()
    shown = boxkite("plan", "film.mov", "--by", "files", "--to", f"web:{tmp_path}", "--in-chunks", "--sample", "--json",
                    cwd=film)  # fmt: skip
    assert shown.json["totals"]["chunked"] == {"files": 1, "chunks": 6} and "no-probe" not in shown.out


def test_outputs_with_other_chunks_or_none_are_made_beside(film: Path, tmp_path: Path) -> None:
    outputs = [word for preset in ("half", "web", "audio-wav") for word in ("--to", f"{preset}:{tmp_path}")]
    env = {**os.environ, "BOXKITE_PRESETS": str(film / "presets")}
    done = boxkite("run", "film.mov", "--by", "files", *outputs, "--in-chunks", "--json", cwd=film, env=env)
    assert done.status == 0, done.err
    assert [file.get("chunks") for file in done.json["files"]] == [7, 6, None]
    assert [frame for _, frame in frames_of(tmp_path / "film.mkv")] == list(range(0, FRAMES, 2))
    assert_holds(tmp_path / "film.mp4", Span(0, FRAMES), RATE)
    assert (tmp_path / "film.wav").exists() and len(list(tmp_path.iterdir())) == 3


@pytest.mark.parametrize("kill", ["worker", "batch"])
def test_killed_among_its_chunks_a_shot_is_made_all_the_same(film: Path, tmp_path: Path, kill: str) -> None:
    out, env = tmp_path / "out", {**os.environ, "BOXKITE_STATE": str(tmp_path / "state")}
    words = (
        "run",
        str(film / "film.mov"),
        "--by",
        "files",
        "--to",
        f"web:{out}",
        "--in-chunks",
        "--workers",
        "1",
    )
    process = subprocess.Popen([PROGRAM, *words], env=env, stdout=subprocess.DEVNULL)
    while len(list(out.glob(".boxkite*"))) < 2:
        time.sleep(0.02)
    (worker,) = psutil.Process(process.pid).children()
    (worker if kill == "worker" else process).send_signal(signal.SIGKILL)
    assert process.wait(60) == (0 if kill == "worker" else -signal.SIGKILL)
    if kill == "batch":
        done = boxkite("resume", env=env)
        assert done.status == 0, done.err
    assert [path.name for path in out.iterdir()] == ["film.mp4"]
    assert_holds(out / "film.mp4", Span(0, FRAMES), RATE)


class InThisProcess:
    """Makes what it is given at once; a task for audio ends as where its worker died."""

    size = cores = 1

    def __init__(self) -> None:
        self.given = []

    @property
    def busy(self) -> int:
        return len(self.given)

    def prepare(self, rows):
        return []

    def submit(self, task, partials) -> None:
        self.given.append((task, tuple(partials)))

    def next_event(self, seconds: float):
        if not self.given:
            return None
        task, partials = self.given.pop()
        if task.is_audio:
            return WorkerEvent(task, None, "signal 11", "", partials)
        paths = [partial.path for partial in partials]
        made = make_files(task.rows, paths, threads=1, chunk=task.chunk, chunks=task.chunks)
        return WorkerEvent(task, WorkerMessage(0, tuple(made)), partials=partials)


def test_a_row_ends_once_whatever_part_of_it_fails_and_a_begun_shot_is_finished(
    film: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("BOXKITE_PRESETS", str(film / "presets"))
    (silent,) = rows_of(film, "half", tmp_path)
    sounding = replace(
        silent,
        number=2,
        name="other",
        preset=dataclasses.replace(silent.preset, audio=Audio(codec="aac")),
        audio_tracks=(0,),
    )
    ended = [one for one in run_plan([silent, sounding], InThisProcess()) if isinstance(one, FileEnded)]
    assert {one.row.number: bool(one.result.failure) for one in ended} == {1: False, 2: True} and len(
        ended
    ) == 2
    assert [path.name for path in tmp_path.iterdir()] == ["film.mkv"]
    (tmp_path / "film.mkv").unlink()
    control, ended = BatchControl(), []
    for event in run_plan([silent], InThisProcess(), control=control):
        control.stop = "after"
        ended += [event] if isinstance(event, FileEnded) else []
    assert [one.result.failure for one in ended] == [""]
