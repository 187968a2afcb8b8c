"""Edits that point at finished files show the same frames, and point back at the same frames of the originals."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import opentimelineio as otio
import pytest

from boxkite.core.edit.reading import read_edit
from boxkite.core.edit.timeline import Timeline
from boxkite.core.timebase import FrameRate
from tests.builders import write_day
from tests.verification import boxkite, decoded_hash, frames_of

RATE = FrameRate.parse("25")
CUTS = ("--by", "cuts", "--picture", "originals", "--media", "card", "--names", "@clip_@(count:01)")


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, str]]:
    """A day's edit and the files of its shots, by two presets, with handles that hold its transitions."""
    mill = write_day(tmp_path_factory.mktemp("mill"), (160, 90), with_program=True)
    state = {"BOXKITE_STATE": str(mill / "state")}
    done = boxkite("run", "day.otio", *CUTS, "--handles", "60", "--to", "proxy:out", "--to", "copy:copies",
                   cwd=mill, env=state)  # fmt: skip
    assert done.status == 0, done.err
    return mill, state


def shown(folder: Path, edit: str, into: Path, *words: str) -> list[list[tuple[int, int]]]:
    """The bar codes of every clip of an edit, cut from whatever it points at."""
    done = boxkite("run", edit, "--by", "cuts", "--picture", "originals", "--names", "@(count:01)", "--to",
                   f"proxy:{into}", "--set", "proxy.size_percent=100", "--json", *words, cwd=folder)  # fmt: skip
    assert done.status == 0, done.err
    return [frames_of(Path(file["path"])) for file in done.json["files"]]


def relink(world: tuple[Path, dict[str, str]], *words: str) -> Any:
    done = boxkite("relink", *words, "--json", cwd=world[0], env=world[1])
    assert done.status == 0, done.err
    return done.json


def spans(timeline: Timeline) -> list[Any]:
    """Where each clip lies on the timeline and in its media, and what hangs on it."""
    return [
        (track.name, one.name, one.record, one.source_start, one.speed, one.markers, one.keywords, one.note,
         one.circled, one.transition_in, one.effects, one.enabled, spans(one.nested) if one.nested else None)
        for track in timeline.tracks for one in track.clips
    ]  # fmt: skip


def without_media(content: Any) -> Any:
    """An .otio without what relinking changes."""
    if isinstance(content, dict):
        dropped = {"media_references", "source_range", "marked_range"}
        return {key: without_media(one) for key, one in content.items() if key not in dropped}
    return [without_media(one) for one in content] if isinstance(content, list) else content


def test_the_relinked_edit_is_rendered_as_the_original_was(
    world: tuple[Path, dict[str, str]], tmp_path: Path
) -> None:
    mill, _ = world
    relink(world, "day.otio", "--preset", "copy", "--into", "rendered.otio")
    rendered = []
    for edit in ("day.otio", "rendered.otio"):
        words = ("--picture", "edit", "--by", "timelines", "--names", "@timeline", "--json")
        to = ("--to", f"proxy:{tmp_path}/{edit}", "--set", "proxy.size_percent=100")
        done = boxkite("run", edit, *words, *to, cwd=mill)
        assert done.status == 0, done.err
        rendered.append(decoded_hash(Path(done.json["files"][0]["path"])))
    assert rendered[1] == rendered[0]


@pytest.mark.parametrize("preset", ["copy"])
def test_the_relinked_edit_shows_the_frames_of_the_originals_and_goes_back_exactly(
    world: tuple[Path, dict[str, str]], tmp_path: Path, preset: str
) -> None:
    mill, _ = world
    there, back = f"there-{preset}.otio", f"back-{preset}.otio"
    assert relink(world, "day.otio", "--to", "last", "--preset", preset, "--into", there)["kept"] == []
    before = shown(mill, "day.otio", tmp_path / "before")
    (mill / "card").rename(mill / "away")
    try:
        assert shown(mill, there, tmp_path / "after") == before
    finally:
        (mill / "away").rename(mill / "card")
    assert relink(world, there, "--to", "last", "--originals", "--into", back)["kept"] == []
    first, again = (read_edit(mill / name).timelines[0] for name in ("day.otio", back))
    assert spans(again) == spans(first)
    own = {
        one.media.path for one in (clip for track in again.tracks for clip in track.clips) if one.media.path
    }
    assert own == {str(mill / "card" / path.name) for path in (mill / "card").iterdir()}
    contents = [json.loads((mill / name).read_text()) for name in ("day.otio", there, back)]
    assert without_media(contents[0]) == without_media(contents[1]) == without_media(contents[2])


def test_edit_decision_lists_and_exchange_files(world: tuple[Path, dict[str, str]], tmp_path: Path) -> None:
    mill, _ = world
    words = ("--media", "card")
    before = shown(mill, "day-cut.edl", tmp_path / "before", *words)
    assert relink(world, "day-cut.edl", "--into", "cut-there.edl")["kept"] == []
    (mill / "card").rename(mill / "away")
    try:
        assert shown(mill, "cut-there.edl", tmp_path / "after") == before
    finally:
        (mill / "away").rename(mill / "card")
    relink(world, "cut-there.edl", "--originals", "--into", "cut-back.edl")
    first, again = (read_edit(mill / name, RATE).timelines[0] for name in ("day-cut.edl", "cut-back.edl"))
    assert [one[:5] for one in spans(again)] == [one[:5] for one in spans(first)]
    assert again.markers == first.markers
    relink(world, "day.otio", "--into", "there.xml")
    relink(world, "day.otio", "--into", "direct.otio")
    as_xml, direct = (
        read_edit(mill / "there.xml").timelines[0],
        read_edit(mill / "direct.otio").timelines[0],
    )
    pointing = [[(one.record, one.source_start, Path(one.media.path).name) for track in timeline.picture_tracks
                 for one in track.clips if one.media.path] for timeline in (as_xml, direct)]  # fmt: skip
    assert pointing[0] == pointing[1]


def test_clips_without_a_file_keep_their_media_and_tracks_can_be_chosen(
    world: tuple[Path, dict[str, str]],
) -> None:
    mill, state = world
    bare = boxkite("run", "day.otio", *CUTS, "--to", "proxy:bare", "--only", "track:V1", cwd=mill, env=state)
    assert bare.status == 0, bare.err
    found = relink(world, "day.otio", "--to", "bare", "--into", "bare.otio", "--tracks", "V1,A2")
    assert {one["kind"] for one in found["kept"]} == {"relink-short"}  # a dissolve, and the long audio
    timeline = read_edit(mill / "bare.otio").timelines[0]
    assert [(track.kind.value, len(track.clips)) for track in timeline.tracks] == [
        ("picture", 11),
        ("audio", 1),
    ]
    kept = [one.media.path for track in timeline.tracks for one in track.clips if "card" in one.media.path]
    assert len(kept) == len(found["kept"])
    refused = boxkite("relink", "day.otio", "--to", "bare", "--into", "bare.otio", cwd=mill, env=state)
    assert refused.status == 2 and "exists already" in refused.err
    wrong = boxkite("relink", "day.otio", "--into", "x.otio", "--tracks", "V7", cwd=mill, env=state)
    assert wrong.status == 2 and "V7" in wrong.err and "V1" in wrong.err


def test_shots_of_the_finished_program_are_shown_as_edited(
    world: tuple[Path, dict[str, str]], tmp_path: Path
) -> None:
    mill, state = world
    words = ("--by", "cuts", "--picture", "program", "--names", "@clip_@(count:01)")
    assert (
        boxkite(
            "run",
            "day.otio",
            "day.mov",
            *words,
            "--handles",
            "4",
            "--to",
            "proxy:program",
            cwd=mill,
            env=state,
        ).status
        == 0
    )
    relink(world, "day.otio", "--to", "program", "--into", "finished.otio", "--tracks", "V1")
    timeline = otio.adapters.read_from_file(str(mill / "finished.otio"))
    clips = [
        one for one in timeline.find_clips() if "program" in getattr(one.media_reference, "target_url", "")
    ]
    assert len(clips) > 5 and not any(one.effects for one in clips)
    record = read_edit(mill / "day.otio").timelines[0].tracks[0].clips
    seen = shown(mill, "finished.otio", tmp_path / "seen")[:3]
    program = frames_of(mill / "day.mov")
    assert seen == [program[one.record.start : one.record.end] for one in record[:3]]


def test_an_edit_of_just_the_shots(world: tuple[Path, dict[str, str]], tmp_path: Path) -> None:
    mill, state = world
    assert relink(world, "--to", "out", "--into", "shots.otio")["relinked"] == 12
    plain = boxkite(
        "run", "day.otio", *CUTS, "--to", f"proxy:{tmp_path}/plain", "--json", cwd=mill, env=state
    )
    wanted = [frames_of(Path(file["path"])) for file in plain.json["files"]]
    assert shown(mill, "shots.otio", tmp_path / "seen") == wanted
