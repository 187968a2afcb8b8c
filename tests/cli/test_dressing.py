"""Looks, sizes, burn-ins, previews and sound, through the program and verified on what it made."""

from __future__ import annotations

import re
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from av.audio.frame import AudioFrame
from PIL import Image

from boxkite.core.looks.look import FileStep
from boxkite.core.looks.transform import processor_of
from boxkite.core.picture.converting import EXACTLY
from boxkite.core.timebase import FrameRate, Span, sample_at
from boxkite.demo import find_ticks
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from boxkite.demo.ticks import tick_frames
from tests import wording
from tests.core.test_looks import write_cube
from tests.verification import assert_holds, audio_of, boxkite, decoded_hash, frames_of, kinds

RATE = FrameRate.parse("25")


@pytest.fixture(scope="module")
def card(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("card")
    write_movie(Movie(folder / "A-vat2.mov", 75, RATE, ((0, VAT), (40, LOFT)), width=640, height=360,
                      timecode="10:00:00:00", reel="A001", audio_tracks=2))  # fmt: skip
    write_movie(Movie(folder / "B-quiet.mov", 25, RATE, ((0, VAT),), width=320, height=180, audio_tracks=0))
    return folder


def pictures(path: Path) -> list[np.ndarray]:
    with av.open(str(path)) as container:
        return [
            picture.reformat(
                format="rgb24", src_colorspace=int(picture.colorspace), interpolation=EXACTLY
            ).to_ndarray()
            for picture in container.decode(video=0)
        ]


def image_of(path: Path) -> np.ndarray:
    with Image.open(path) as image:
        return np.asarray(image)


def run(folder: Path, *words: str | Path) -> dict:
    done = boxkite("run", *words, "--json", cwd=folder)
    assert done.status == 0, done.out + done.err
    return done.json


def test_a_look_beside_the_clip_is_applied_by_itself_and_stands_in_the_plan(
    card: Path, tmp_path: Path
) -> None:
    clip = tmp_path / "A-vat2.mov"
    clip.symlink_to(card / "A-vat2.mov")
    plain = run(tmp_path, clip, "--to", "proxy-dnxhr:plain")
    write_cube(tmp_path / "A-vat2.cube")
    made = run(
        tmp_path,
        clip,
        "--to",
        "proxy-dnxhr:graded",
        "--to",
        "copy:copied",
        "--set",
        "proxy-dnxhr.look.cdl=true",
    )
    assert [file["look"] for file in plain["files"] + made["files"]] == [[], ["A-vat2.cube"], []]
    assert "look-not-applied" in kinds(made["files"][1]["warnings"])
    wanted = np.ascontiguousarray(pictures(tmp_path / "plain/A-vat2.mov")[10].astype(np.float32) / 255)
    processor_of((FileStep(tmp_path / "A-vat2.cube"),)).apply(wanted)
    found = pictures(tmp_path / "graded/A-vat2.mov")[10].astype(np.float32) / 255
    assert np.abs(np.clip(wanted, 0, 1) - found).mean() * 255 < 2.5  # coded twice, and brought to 8 bit
    assert frames_of(tmp_path / "graded/A-vat2.mov") == [(1, frame) for frame in range(75)]


def test_a_preview_is_the_frame_that_a_run_encodes_and_tuned_values_become_a_preset(
    card: Path, tmp_path: Path
) -> None:
    cube = write_cube(tmp_path / "show.cube")
    words = (card / "A-vat2.mov", "--to", "proxy-dnxhr:out", "--look", cube, "--set", "fit=320x180")
    shown = boxkite("preview", *words, "--at", "10:00:01:00", "--save-preset", "mill-proxy", cwd=tmp_path)
    assert shown.status == 0, shown.err
    assert shown.out.startswith("preview.png: 320x180, file 1, A-vat2.mov (proxy-dnxhr), look: show.cube")
    still = image_of(tmp_path / "preview.png")
    run(tmp_path, *words)
    assert np.abs(pictures(tmp_path / "out/A-vat2.mov")[25].astype(int) - still).max() <= 1
    run(tmp_path, card / "A-vat2.mov", "--to", "mill-proxy:again")
    assert (tmp_path / "again/A-vat2.mov").read_bytes() == (tmp_path / "out/A-vat2.mov").read_bytes()
    (tmp_path / "mine.png").write_bytes(b"a picture of my own")
    refused = boxkite("preview", *words, "--still", "mine.png", cwd=tmp_path)
    assert refused.status == 2 and wording.NO_PREVIEW in refused.err
    sheet = boxkite(
        "preview", card, "--to", "web:out", "--to", "stock:out", "--sheet", "--guides", cwd=tmp_path
    )
    assert sheet.status == 0 and image_of(tmp_path / "preview.png").shape[1] > 3 * 400
    both = boxkite("preview", card, "--to", "review:o", "--before-after", "--at", "25%", cwd=tmp_path)
    assert both.status == 0 and image_of(tmp_path / "preview.png").shape[1] > 2 * 320


def test_burn_ins_are_placed_nudged_and_coloured_and_say_what_they_cannot_show(
    card: Path, tmp_path: Path
) -> None:
    (tmp_path / "lettered.toml").write_text(
        'based_on = "frames-png"\n'
        '[[burn_in]]\ntext = "@shotframe"\nposition = "top left"\nheight_percent = 20\ncolour = "#ff00ff"\n'
        'box_opacity = 0\nopacity = 1\n'
        '[[burn_in]]\ntext = "@shotframe"\nposition = "top left"\nheight_percent = 20\ncolour = "#00ffff"\n'
        'box_opacity = 0\nopacity = 1\nnudge = [50, 50]\n'
        '[[burn_in]]\ntext = "紙 Bütte"\n'
        '[[watermark]]\ntext = "A"\nposition = "right"\ncolour = "#0000ff"\nopacity = 1\n'
        '[[watermark]]\ntext = "B"\nposition = "left"\nwidth_percent = 5\n'
    )  # fmt: skip
    made = run(tmp_path, card / "B-quiet.mov", "--to", "lettered.toml:out")
    assert [one["values"] for one in made["files"][0]["warnings"] if one["kind"] == "glyphs-missing"] == [
        {"characters": "紙"}
    ]
    first = image_of(tmp_path / "out/B-quiet/B-quiet.0001.png").astype(int)
    red, green, blue = np.moveaxis(first, -1, 0)
    magenta = np.argwhere(np.minimum(red, blue) - green > 120)
    cyan = np.argwhere(np.minimum(green, blue) - red > 120)
    assert len(magenta) and len(cyan)
    moved = np.median(cyan, axis=0) - np.median(magenta, axis=0)
    assert np.abs(moved - (90, 160)).max() <= 3


def test_frames_come_at_another_rate_and_size_with_their_audio_in_sync(card: Path, tmp_path: Path) -> None:
    made = run(tmp_path, card / "A-vat2.mov", "--to", "stock:out", "--set", "rate=50",
               "--set", "fit=800x800", "--set", "bars=true")  # fmt: skip
    file = made["files"][0]
    assert (file["frames"], file["source_frames"], file["size"]) == (150, 75, "800x800")
    with av.open(str(tmp_path / "out/A-vat2.mov")) as container:
        stream = container.streams.video[0]
        assert stream.average_rate == 50 and stream.metadata["timecode"] == "10:00:00:00"
        last = list(container.decode(stream))[-1].reformat(format="gray").to_ndarray()
    assert last[:210].max() <= 17 and last[300:500].max() > 100  # 640x360 in the middle of black


def write_wave(path: Path, samples: np.ndarray, reference: int) -> None:
    with av.open(str(path), "w", options={"write_bext": "1"}) as container:
        container.metadata["time_reference"] = str(reference)
        stream = container.add_stream("pcm_s24le", rate=48_000, layout="mono")
        sound = AudioFrame.from_ndarray(
            (samples * (2**31 - 1)).astype(np.int32)[None], format="s32", layout="mono"
        )
        sound.sample_rate, sound.pts, sound.time_base = 48_000, 0, Fraction(1, 48_000)
        container.mux(stream.encode(sound))
        container.mux(stream.encode(None))


def test_a_recorders_wav_takes_the_place_of_the_cameras_audio_to_the_sample(
    card: Path, tmp_path: Path
) -> None:
    samples = np.zeros(48_000 * 6)
    clicks = [
        sample_at(frame, RATE, 48_000) + 96_000 for frame in (30, 45, 70)
    ]  # it starts 2 s before the clip
    for click in clicks:
        samples[click : click + 480] = 0.5 * np.sin(np.arange(480) * 2 * np.pi * 1000 / 48_000)
    write_wave(tmp_path / "take1.wav", samples, (10 * 3600 - 2) * 48_000)
    write_wave(tmp_path / "other.wav", samples, 11 * 3600 * 48_000)
    (tmp_path / "m.csv").write_text("source,name,in,out\nA-vat2.mov,dip,25,75\n")
    made = run(tmp_path, card / "A-vat2.mov", "--by", "ranges", "--marks", "m.csv", "--sound", tmp_path,
               "--to", "stock:out")  # fmt: skip
    assert [one["values"] for one in made["notices"] if one["kind"] == "recording"] == [
        {"source": "A-vat2.mov", "recording": "take1.wav"}
    ]
    heard, rate = audio_of(Path(made["files"][0]["path"]))
    found = find_ticks(heard, rate)
    wanted = [tick - 96_000 - 48_000 for tick in find_ticks(samples, 48_000)]
    assert len(heard) == 96_000 and len(found) == 3
    assert max(abs(a - b) for a, b in zip(found, wanted, strict=True)) <= 2


def test_audio_is_mixed_made_as_loud_as_asked_and_silent_where_a_track_is_needed(
    card: Path, tmp_path: Path
) -> None:
    (tmp_path / "loud.toml").write_text(
        'based_on = "broadcast"\n[audio]\nloudness_lufs = -35\ntracks = "mixed"\nif_none = "silence"\n'
    )
    made = run(tmp_path, card, "--to", "loud.toml:out", "--to", "audio-wav:waves")
    graph = av.filter.Graph()
    nodes = [graph.add_abuffer(sample_rate=48_000, format="s32", layout="stereo", time_base=Fraction(1, 48_000)),
             graph.add("ebur128", "peak=true:metadata=1"), graph.add("abuffersink")]  # fmt: skip
    nodes[0].link_to(nodes[1])
    nodes[1].link_to(nodes[2])
    graph.configure()
    loudness = -99.0
    with av.open(str(tmp_path / "out/A-vat2.mxf")) as container:
        assert len(container.streams.audio) == 1
        for sound in container.decode(audio=0):
            for part in av.AudioResampler(format="s32", layout="stereo").resample(sound):
                graph.push(part)
            while True:
                try:
                    loudness = float(graph.pull().metadata.get("lavfi.r128.I", loudness))
                except (av.error.BlockingIOError, av.error.EOFError):
                    break
    assert abs(loudness + 35) < 0.5
    silent, _ = audio_of(tmp_path / "out/B-quiet.mxf")
    assert len(silent) == 48_000 and not silent.any()
    assert "silent-track-added" in kinds(made["files"][2]["warnings"])
    wave, rate = audio_of(tmp_path / "waves/A-vat2.wav")
    ticks = [sample_at(frame, RATE, rate) for frame in tick_frames(75, RATE)]
    assert all(abs(a - b) <= 1 for a, b in zip(find_ticks(wave, rate), ticks, strict=True))
    with av.open(str(tmp_path / "waves/A-vat2.wav")) as container:
        assert container.metadata["time_reference"] == str(36_000 * 48_000)


def test_overlapping_shots_of_several_presets_are_each_right(card: Path, tmp_path: Path) -> None:
    (tmp_path / "m.csv").write_text(
        "source,name,in,out\nA-vat2.mov,a,5,45\nA-vat2.mov,b,10,40\nA-vat2.mov,c,30,75\n"
    )
    made = run(tmp_path, card / "A-vat2.mov", "--by", "ranges", "--marks", "m.csv", "--names", "@marker",
               "--to", "stock:s", "--to", "archive:a")  # fmt: skip
    assert len(made["files"]) == 6
    for name, span in (("a", (5, 45)), ("b", (10, 40)), ("c", (30, 75))):
        assert_holds(tmp_path / f"s/{name}.mov", Span(*span), RATE)
        assert_holds(tmp_path / f"a/{name}.mkv", Span(*span), RATE, sample_slack=50)


@pytest.mark.parametrize(
    ("layout", "preset", "channels", "held"),
    [
        ("1 channels", "proxy-h264", "keep", "mono"),
        ("3 channels", "web", "stereo", "stereo"),
        ("5.1(side)", "web-vp9", "keep", "5.1"),
        ("8 channels", "archive", "keep", "7.1"),
        ("12 channels", "proxy-h264", "keep", "stereo"),
        ("9 channels", "stock", "keep", "9 channels"),
    ],
)
def test_every_channel_is_heard_whatever_a_codec_takes_and_a_file_says(
    layout: str, preset: str, channels: str, held: str, card: Path, tmp_path: Path
) -> None:
    """One channel of the source after the other bears a tone; no moment of the file is silent."""
    count = len(av.AudioLayout(layout).channels)
    length = 48_000 // count
    sound = np.zeros((count * length, count), np.int16)
    tone = (12_000 * np.sin(np.arange(length) * 0.05)).astype(np.int16)
    for channel in range(count):
        sound[channel * length : (channel + 1) * length, channel] = tone
    with av.open(str(card / "B-quiet.mov")) as drawn, av.open(str(tmp_path / "many.mov"), "w") as container:
        pictures_in = container.add_stream_from_template(drawn.streams.video[0])
        stream = container.add_stream("pcm_s16le", rate=48_000, layout=layout)
        for packet in drawn.demux(drawn.streams.video[0]):
            if packet.size:
                packet.stream = pictures_in
                container.mux(packet)
        frame = AudioFrame.from_ndarray(sound.reshape(1, -1), format="s16", layout=layout)
        frame.sample_rate = 48_000
        container.mux(stream.encode(frame))
    run(tmp_path, "many.mov", "--to", f"{preset}:out", "--set", f"audio.channels={channels}")
    (made,) = (tmp_path / "out").iterdir()
    with av.open(str(made)) as container:
        assert container.streams.audio[0].layout.name == held
        even = av.AudioResampler(format="flt")
        parts = [
            part.to_ndarray().reshape(-1, len(part.layout.channels))
            for packet in container.decode(audio=0)
            for part in even.resample(packet)
        ]
    loudest = np.abs(np.concatenate(parts)).max(axis=1)
    heard = [
        loudest[(at * length + length // 4) : (at + 1) * length - length // 4].max() for at in range(count)
    ]
    if held != "5.1":  # opus leaves little of a tone in the channel for low effects
        assert min(heard) > 0.04, heard


def test_more_channels_than_a_lossless_codec_holds_are_refused(tmp_path: Path) -> None:
    sound = AudioFrame.from_ndarray(np.zeros((1, 48_000 * 10), np.int16), format="s16", layout="10 channels")
    sound.sample_rate = 48_000
    with av.open(str(tmp_path / "ten.wav"), "w") as container:
        stream = container.add_stream("pcm_s16le", rate=48_000, layout="10 channels")
        container.mux(stream.encode(sound))
    (tmp_path / "flac.toml").write_text('container = "mkv"\n[audio]\ncodec = "flac"\n')
    refused = boxkite("run", "ten.wav", "--to", "flac.toml:out", cwd=tmp_path)
    assert refused.status == 2 and wording.TOO_MANY_CHANNELS in refused.err


def test_audio_of_any_rate_is_resampled_where_only_some_are_taken(card: Path, tmp_path: Path) -> None:
    for hz in (44_100, 32_000, 96_000):
        write_movie(
            Movie(tmp_path / f"{hz}.mov", 47, RATE, ((0, VAT),), width=320, height=180, sample_rate=hz)
        )
    (tmp_path / "m.csv").write_text("source,name,in,out\n" + "".join(
        f"{hz}.mov,{hz}-{start},{start},{start + 23}\n" for hz in (44_100, 32_000, 96_000) for start in (0, 11)
    ))  # fmt: skip
    made = run(tmp_path, ".", "--by", "ranges", "--marks", "m.csv", "--names", "@marker",
               "--to", "broadcast:b", "--to", "web-vp9:v")["files"]  # fmt: skip
    assert len(made) == 12
    for file in made:
        samples, hz = audio_of(Path(file["path"]))
        assert hz == 48_000 and abs(len(samples) - 23 * 1920) <= (1 if file["preset"] == "broadcast" else 960)


def test_what_one_preset_does_to_its_frames_is_not_seen_in_those_of_another(
    card: Path, tmp_path: Path
) -> None:
    """All lossless, of one size and pixel format, so that one picture as decoded goes to each of them."""
    cube = write_cube(tmp_path / "show.cube")
    (tmp_path / "dressed.toml").write_text(
        f'based_on = "archive"\n[look]\nfile = "{cube}"\n[[burn_in]]\ntext = "shown"\nopacity = 0.5\n'
    )
    (tmp_path / "twice.toml").write_text('based_on = "dressed.toml"\nrate = 50\n')
    source = run(tmp_path, card / "B-quiet.mov", "--to", "archive:source")["files"][0]["path"]
    alone = decoded_hash(Path(source))
    made = run(
        tmp_path, source, "--to", "dressed.toml:d", "--to", "archive:plain", "--to", "twice.toml:t"
    )["files"]  # fmt: skip
    dressed, plain, twice = (pictures(Path(file["path"])) for file in made)
    assert decoded_hash(Path(made[1]["path"])) == alone
    assert len(twice) == 2 * len(dressed) == 2 * len(plain)
    assert all(
        np.array_equal(one, twice[2 * at]) and np.array_equal(one, twice[2 * at + 1])
        for at, one in enumerate(dressed)
    )
    assert np.abs(dressed[3].astype(int) - plain[3]).mean() > 5


def test_two_passes_hardware_that_is_not_there_and_chosen_image_numbers(card: Path, tmp_path: Path) -> None:
    made = run(
        tmp_path, card / "B-quiet.mov", "--to", "web-small:w", "--to", "web:h", "--to", "frames-jpeg:j",
        "--to", "frames-exr:x", "--set", "web.video.hardware=nvenc", "--set", "frames-jpeg.first_number=1001",
        "--set", "frames-exr.source_numbers=true", "--set", "frames-exr.digits=6",
    )  # fmt: skip
    by_preset = {file["preset"]: file for file in made["files"]}
    assert frames_of(tmp_path / "w/B-quiet.mp4") == frames_of(tmp_path / "h/B-quiet.mp4")
    assert "encoder-fell-back" in kinds(by_preset["web"]["warnings"])
    assert sorted(path.name for path in (tmp_path / "j/B-quiet").iterdir())[0] == "B-quiet.1001.jpg"
    assert sorted(path.name for path in (tmp_path / "x/B-quiet").iterdir())[0] == "B-quiet.000000.exr"
    assert not list(tmp_path.rglob(".*"))
    again = run(tmp_path, tmp_path / "x/B-quiet", "--images-rate", "25", "--to", "archive:again")
    assert again["files"][0]["frames"] == 25
    assert frames_of(tmp_path / "again/B-quiet.mkv") == [(1, frame) for frame in range(25)]


def test_audio_beside_images_and_the_metadata_of_a_shot_in_its_file(card: Path, tmp_path: Path) -> None:
    (tmp_path / "both.toml").write_text('based_on = "frames-jpeg"\nwith_presets = ["audio-wav"]\n')
    (tmp_path / "m.csv").write_text(
        "source,name,in,out,keywords,note\nA-vat2.mov,dip,25,50,vat; hands,slow\n"
    )
    made = run(tmp_path, card / "A-vat2.mov", "--by", "ranges", "--marks", "m.csv", "--names", "@marker",
               "--to", "both.toml:out", "--to", "web:web", "--to", "proxy:mov")  # fmt: skip
    assert [Path(file["path"]).name for file in made["files"]] == ["dip", "dip.wav", "dip.mp4", "dip.mov"]
    assert len(list((tmp_path / "out/dip").iterdir())) == 25
    for name, begin in (("web/dip.mp4", ""), ("mov/dip.mov", "com.apple.quicktime.")):
        with av.open(str(tmp_path / name)) as container:
            message = [container.metadata[f"{begin}{key}"] for key in ("title", "keywords", "comment")]
        assert message == ["dip", "vat, hands", "slow"]
    again = boxkite("inspect", "mov/dip.mov", "--tokens", cwd=tmp_path)
    assert re.search(r"@keywords +vat-hands +container", again.out), again.out
