"""Everything a preset may say is really made: every codec in every container it may stand in."""

from __future__ import annotations

from itertools import cycle
from pathlib import Path

from boxkite.core.presets.model import CODECS_OF, PIXEL_FORMATS, PROFILES
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests.proof import assert_holds, boxkite

RATE = FrameRate.parse("29.97")


def test_every_codec_profile_and_pixel_format_is_exact_in_every_container(tmp_path: Path) -> None:
    write_movie(
        Movie(tmp_path / "clip.mov", 60, RATE, ((0, VAT),), width=320, height=180, timecode="01:00:00;00")
    )
    (tmp_path / "m.csv").write_text("name,in,out\ndip,17,51\n")
    wanted: list[tuple[str, str]] = []
    for container, (videos, audios) in CODECS_OF.items():
        sounds = cycle(sorted(audios))
        for codec in sorted(videos):
            settings = (
                [f'pixel_format = "{one}"' for one in PIXEL_FORMATS[codec]] if container != "mp4" else [""]
            )
            if codec in ("prores", "dnxhr"):
                settings = [f'profile = "{one}"' for one in PROFILES[codec]]
            for number, setting in enumerate(settings):
                name = f"{container}-{codec}-{number}"
                fast = 'speed = "ultrafast"\nquality = 18\n' if codec in ("h264", "hevc") else ""
                (tmp_path / f"{name}.toml").write_text(
                    f'container = "{container}"\n[video]\ncodec = "{codec}"\n{setting}\n{fast}\n'
                    f'[audio]\ncodec = "{next(sounds)}"\n[[burn_in]]\ntext = "@timecode @frame"\n'
                )
                wanted.append((name, container))
    words = [word for name, _ in wanted for word in ("--to", f"{name}.toml:{name}")]
    done = boxkite(
        "run",
        "clip.mov",
        "--by",
        "ranges",
        "--marks",
        "m.csv",
        "--names",
        "@marker",
        *words,
        "--json",
        cwd=tmp_path,
    )
    assert done.status == 0, [
        (file["preset"], file["failure"]) for file in done.json["files"] if file["failure"]
    ]
    for name, container in wanted:
        slack = 1 if "pcm" in (tmp_path / f"{name}.toml").read_text() and container == "mov" else 1500
        assert_holds(tmp_path / name / f"dip.{container}", Span(17, 51), RATE, sample_slack=slack)
    assert len(wanted) >= 30
