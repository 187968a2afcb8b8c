"""Everything a preset may say is really made: every codec in every container it may stand in."""

from __future__ import annotations

import os
from itertools import cycle
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image

from boxkite.core.presets.codecs import CODECS, CODECS_OF, SEQUENCES
from boxkite.core.presets.library import Shelf, list_presets
from boxkite.core.render.encode.codec_options import jpeg_quantiser
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo import read_barcode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import PATCHES, VAT, draw_picture
from tests.verification import Run, assert_holds, boxkite, frames_of

RATE = FrameRate.parse("29.97")


@pytest.fixture(scope="module")
def clips(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("clips")
    write_movie(
        Movie(folder / "clip.mov", 42, RATE, ((0, VAT),), width=320, height=180, timecode="01:00:00;00")
    )
    ten_bit = {"encoder": "prores", "options": {}, "pixel_format": "yuv422p10le"}
    for name, rate, kind in (("film.mov", "23.976", ten_bit), ("fast.mov", "59.94", {})):
        write_movie(
            Movie(folder / name, 42, FrameRate.parse(rate), ((0, VAT),), width=320, height=180, **kind)
        )
    (folder / "m.csv").write_text("name,in,out\ndip,17,35\n")
    return folder


QUICKEST = {"h264": "ultrafast", "hevc": "ultrafast", "av1": "13", "vp9": "8"}
SOURCES = {"clip.mov": RATE, "film.mov": FrameRate.parse("23.976"), "fast.mov": FrameRate.parse("59.94")}


def cut(folder: Path, *outputs: str, source: str = "clip.mov") -> Run:
    """The one range of a clip, to each output."""
    words = [word for output in outputs for word in ("--to", output)]
    return boxkite("run", source, "--by", "ranges", "--marks", "m.csv", "--names", "@marker", *words, "--json",
                   cwd=folder)  # fmt: skip


def image_frames(folder: Path) -> list[tuple[int, int]]:
    found = []
    for path in sorted(folder.iterdir()):
        with av.open(str(path)) as container:
            found.append(read_barcode(next(container.decode(video=0))))
    return found


def test_every_codec_profile_and_pixel_format_is_exact_in_every_container(clips: Path) -> None:
    is_every = "BOXKITE_EVERY_CODEC" in os.environ
    wanted: list[tuple[str, str, str]] = []
    for container, (videos, audios) in CODECS_OF.items():
        sounds = cycle(sorted(audios) or [""])
        for name in sorted(videos):
            codec = CODECS[name]
            settings = [f'pixel_format = "{one}"' for one in codec.formats]
            if name in ("prores", "dnxhr"):
                settings = [f'profile = "{one}"' for one in codec.profiles]
            if not is_every and any(made == name for _, _, made in wanted):
                if any(into == container for _, into, _ in wanted):
                    continue  # both have been tried, each with another
                settings = [""]  # all of them were made in the container before
            for number, setting in enumerate(settings):
                preset = f"{container}-{name}-{number}"
                fast = f'encoder_speed = "{QUICKEST[name]}"\n' if codec.has_speed else ""
                fast += f"quality = {18 if name != 'jpeg' else 3}\n" if codec.quality else ""
                sound = f'[audio]\ncodec = "{next(sounds)}"\n' if audios else ""
                (clips / f"{preset}.toml").write_text(
                    f'container = "{container}"\n[video]\ncodec = "{name}"\n{setting}\n{fast}\n{sound}'
                    + ('[[burn_in]]\ntext = "@timecode @frame"\n' if name != "exr" else "")
                )
                wanted.append((preset, container, name))
    rates = {}
    for place, (source, rate) in enumerate(SOURCES.items()):  # 8 and 10 bit, three rates, in turn
        presets = [preset for preset, _, _ in wanted[place::3]]
        rates |= dict.fromkeys(presets, rate)
        done = cut(clips, *(f"{preset}.toml:{preset}" for preset in presets), source=source)
        assert done.status == 0, [
            (file["preset"], file["failure"]) for file in done.json["files"] if file["failure"]
        ]
    for preset, container, _ in wanted:
        if container in SEQUENCES:
            assert image_frames(clips / preset / "dip") == [(1, frame) for frame in range(17, 35)]
            continue
        slack = 1 if "pcm" in (clips / f"{preset}.toml").read_text() and container == "mov" else 1500
        assert_holds(clips / preset / f"dip.{container}", Span(17, 35), rates[preset], sample_slack=slack)
    assert len(wanted) >= (60 if is_every else 25)


def odd_sources(folder: Path) -> dict[str, Path]:
    """10 bit with three audio tracks; odd sides; silent; audio alone."""
    found = {name: folder / name for name in ("ten.mov", "odd.mkv", "silent.mp4", "alone.wav")}
    ten_bit = Movie(found["ten.mov"], 12, RATE, ((0, VAT),), width=320, height=180, pixel_format="yuv422p10le",
                    encoder="prores", options={}, audio_tracks=3)  # fmt: skip
    write_movie(ten_bit)
    write_movie(Movie(found["silent.mp4"], 12, RATE, ((0, VAT),), width=320, height=180, audio_tracks=0))
    with av.open(str(found["odd.mkv"]), "w") as container:
        stream = container.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = 321, 181, "yuv444p"
        for number in range(12):
            picture = draw_picture(VAT, 1, number, 320, 180).reformat(321, 181, format="yuv444p")
            picture.pts = number
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))
    with av.open(str(found["alone.wav"]), "w") as container:
        stream = container.add_stream("pcm_s16le", rate=48000, layout="mono")
        sound = av.AudioFrame.from_ndarray(
            np.arange(20_001, dtype=np.int16)[None, :], format="s16", layout="mono"
        )
        sound.sample_rate = 48000
        container.mux(stream.encode(sound))
    return found


def test_every_built_in_preset_makes_what_it_can_of_any_footage_and_says_where_it_cannot(
    tmp_path: Path,
) -> None:
    sources = odd_sources(tmp_path)
    presets = [file.name for file in list_presets() if file.built_in]
    assert len(presets) >= 20
    words = [word for preset in presets for word in ("--to", f"{preset}:{preset}")]
    done = boxkite("run", *sources.values(), "--names", "@clip", *words, "--json", cwd=tmp_path)
    assert done.status == 0, [(one["path"], one["failure"]) for one in done.json["files"] if one["failure"]]
    planned = boxkite(
        "plan", *sources.values(), "--names", "@clip", *words, "--existing", "replace", "--json", cwd=tmp_path
    )
    assert [row["path"] for row in planned.json["rows"]] == [file["path"] for file in done.json["files"]]
    unfit = {(one["name"], one["reason"]["values"]["preset"]) for one in planned.json["left_out"]}
    for name in sources:
        clip = Path(name).stem
        for preset in presets:
            made = list((tmp_path / preset).glob(f"{clip}*"))
            assert bool(made) is ((clip, preset) not in unfit), (name, preset)
    assert {clip for clip, preset in unfit if preset == "audio-wav"} == {"odd", "silent"}
    assert {preset for clip, preset in unfit if clip == "alone"} == set(presets) - {"audio-wav"}
    for preset in presets:
        if preset not in ("audio-wav", "copy") and not Shelf().load(preset).is_sequence:
            assert len(frames_of(next((tmp_path / preset).glob("odd*")))) == 12, preset
    with av.open(str(tmp_path / "audio-wav/alone.wav")) as container:
        assert sum(frame.samples for frame in container.decode(audio=0)) == 20_001
    with av.open(str(tmp_path / "audio-wav/ten.wav")) as container:
        assert container.streams.audio[0].channels == 6


def test_colours_stay_as_they_were_whatever_is_done_to_the_picture(tmp_path: Path) -> None:
    write_movie(Movie(tmp_path / "hd.mov", 3, RATE, ((0, VAT),), options={"crf": "4"}, audio_tracks=0))
    presets = ("stock", "review", "web-av1", "frames-png", "frames-dpx", "frames-jpeg", "master")
    words = [word for preset in presets for word in ("--to", f"{preset}:{preset}")]
    done = boxkite("run", "hd.mov", "--names", "@clip", *words, cwd=tmp_path)
    assert done.status == 0, done.out + done.err
    for path in sorted(tmp_path.rglob("hd.*")):
        if (
            path.parent == tmp_path
            or not path.is_file()
            or (path.suffix in (".png", ".dpx", ".jpg") and "0001" not in path.name)
        ):
            continue
        with av.open(str(path)) as container:
            picture = next(container.decode(video=0)).to_ndarray(format="rgb24").astype(int)
        height, width = picture.shape[:2]
        side = width // 20
        for index, colour in enumerate(PATCHES):
            left = width // 24 + index * (side + side // 4)
            found = picture[height * 7 // 10 + side // 2, left + side // 2]
            assert np.abs(found - np.array(colour)).max() <= 8, (path, colour, found)


def test_own_presets_keep_their_files_and_are_changed_checked_and_removed(
    clips: Path, tmp_path: Path
) -> None:
    mine, at_work = os.environ | {"BOXKITE_PRESETS": str(tmp_path / "mine")}, tmp_path / "desk"
    at_work.mkdir()
    Image.new("RGBA", (40, 20), (255, 0, 0, 255)).save(at_work / "mark.png")

    def presets(*words: str) -> Run:
        return boxkite("presets", *words, cwd=at_work, env=mine)

    assert presets("new", "mill-web", "--based-on", "web", "--set", "watermark.image=mark.png").status == 0
    assert (
        presets("change", "mill-web", "--set", "video.quality=30", "--set", "watermark.opacity=1").status == 0
    )
    elsewhere = ("run", clips / "clip.mov", "--by", "files", "--to", "mill-web:out", "--json")
    assert boxkite(*elsewhere, cwd=tmp_path, env=mine).status == 0
    with av.open(str(tmp_path / "out/clip.mp4")) as container:
        picture = next(container.decode(video=0)).to_ndarray(format="rgb24")
    assert any((abs(picture.astype(int) - (255, 0, 0)).sum(axis=2) < 90).flatten())
    assert presets("check", "mill-web").status == 0
    (at_work / "mark.png").rename(at_work / "gone.png")
    checked = presets("check")
    assert (
        checked.status == 1
        and "watermark.1.image" in checked.out
        and str(at_work / "mark.png") in checked.out
    )
    assert presets("change", "web", "--set", "video.quality=3").status == 2
    assert presets("new", "mill-two", "--based-on", "mill-web", "--set", "video.quality=22").status == 0
    refused = presets("remove", "mill-web")
    assert refused.status == 2 and "mill-two" in refused.err
    assert presets("remove", "mill-two").status == presets("remove", "mill-web").status == 0
    assert not list((tmp_path / "mine").glob("*.toml"))


@pytest.mark.parametrize(
    ("setting", "words"),
    [
        ("web.video.quality=70", ("0 to 51", "lower is better", "quality = 20")),
        ("web.video.quality=high", ("0 to 51", "lower is better")),
        ("frames-jpeg.video.quality=0", ("1 to 100", "higher is better", "quality = 90")),
        ("web.watermark.opacity=3", ("above 0 and up to 1", "0 is invisible", "opacity = 0.5")),
        (
            "web.audio.bitrate_kbps=lots",
            ("whole number from 16 to 2,000", "more is better", "bitrate_kbps = 192"),
        ),
        ("web.container=mp5", ("one of mov, mp4", "did you mean mp4?")),
        ("web.watermark=3", ("this is a table, [watermark]",)),
        ("web.watermark.nudge=far", ("two numbers from -100 to 100", "nudge = [2, -1.5]")),
    ],
)
def test_a_refused_setting_says_what_it_takes_in_which_direction_and_an_example(
    clips: Path, setting: str, words: tuple[str, ...]
) -> None:
    preset = setting.partition(".")[0]
    text = ("--set", "web.watermark.text=mill") if "watermark." in setting else ()
    refused = boxkite("plan", clips / "clip.mov", "--to", f"{preset}:out", *text, "--set", setting)
    assert refused.status == 2 and all(word in refused.err for word in words), refused.err
    assert "Input should be" not in refused.err and "validation" not in refused.err


def test_jpeg_quality_runs_from_1_to_100_upwards(clips: Path, tmp_path: Path) -> None:
    assert [jpeg_quantiser(quality) for quality in (100, 95, 90, 75, 50, 25, 1)] == [1, 1, 2, 4, 8, 16, 31]
    for quality in (10, 90):
        setting = f"frames-jpeg.video.quality={quality}"
        words = ("--by", "files", "--to", f"frames-jpeg:q{quality}", "--set", setting)
        assert boxkite("run", clips / "clip.mov", *words, cwd=tmp_path).status == 0
    sizes = [sum(one.stat().st_size for one in (tmp_path / f"q{q}").rglob("*.jp*g")) for q in (10, 90)]
    assert 0 < sizes[0] < sizes[1] / 2


def test_a_watermark_from_the_command_line_marks_every_preset_that_has_a_picture(
    clips: Path, tmp_path: Path
) -> None:
    Image.new("RGBA", (40, 20), (255, 0, 0, 255)).save(tmp_path / "mark.png")
    words = ("--by", "files", "--watermark", "mark.png", "--to", "web-720:w", "--to", "copy:c", "--json")
    planned = boxkite("plan", clips / "clip.mov", *words, cwd=tmp_path)
    assert [one["values"] for one in planned.json["notices"] if one["kind"] == "unmarked"] == [
        {"presets": ["copy"]}
    ]
    assert boxkite("run", clips / "clip.mov", *words, cwd=tmp_path).status == 0
    log = boxkite("log", cwd=tmp_path).out
    assert f"from {clips / 'clip.mov'}; watermark {tmp_path / 'mark.png'}" in log
    with av.open(str(tmp_path / "w/clip.mp4")) as container:
        picture = next(container.decode(video=0)).to_ndarray(format="rgb24").astype(int)
    reddish = (picture[..., 0] - picture[..., 1] > 60).mean()
    assert reddish > 0.005


def test_sheets_have_pages(clips: Path, tmp_path: Path) -> None:
    (tmp_path / "many.csv").write_text("name,in\n" + "".join(f"m{frame},{frame}\n" for frame in range(26)))
    words = ("--marks", "many.csv", "--to", "web:o", "--sheet", "--still", "all.png")
    assert boxkite("preview", clips / "clip.mov", *words, cwd=tmp_path).status == 0
    assert sorted(one.name for one in tmp_path.glob("all*.png")) == ["all-1.png", "all-2.png"]


def test_a_pattern_gives_numbered_images_a_folder_and_a_base_name_apart(clips: Path, tmp_path: Path) -> None:
    names = "@clip/v@(version:000)/@(clip)_v@(version:000).@(frame:00000)"
    words = ("--by", "files", "--names", names, "--to", "frames-jpeg:im", "--to", "web:w")
    saved = ("--save-plan", "plan.csv")
    assert boxkite("plan", clips / "clip.mov", *words, *saved, cwd=tmp_path).status == 0
    assert "clip/v001/clip_v001.#####" in (tmp_path / "plan.csv").read_text()
    assert boxkite("run", "plan.csv", cwd=tmp_path).status == 0
    images = sorted(path.name for path in (tmp_path / "im/clip/v001").iterdir())
    assert images == [f"clip_v001.{number:05d}.jpg" for number in range(1, 43)]
    assert [frame for _, frame in image_frames(tmp_path / "im/clip/v001")] == list(range(42))
    assert (tmp_path / "w/clip/v001/clip_v001.mp4").is_file()
    again = boxkite("plan", clips / "clip.mov", *words, "--json", cwd=tmp_path).json["rows"]
    assert [row["name"] for row in again] == ["clip/v002", "clip/v002/clip_v002"]
    refused = boxkite("plan", clips / "clip.mov", "--by", "files", "--names", "@(frame:000)/@clip", "--to",
                      "frames-jpeg:im", cwd=tmp_path)  # fmt: skip
    assert refused.status == 2 and "a folder cannot have the number" in refused.err
