"""Two hours: sound and picture together at the end, as at the beginning."""

from __future__ import annotations

import os
from pathlib import Path

from boxkite.core.timebase import sample_at
from boxkite.demo import find_ticks
from boxkite.demo.ticks import tick_frames
from tests.long_film import LOOP_FRAMES, RATE, write_long_film
from tests.verification import audio_of, boxkite, frames_of

LOOPS = int(os.environ.get("BOXKITE_LOOPS", "40"))
"""Of 240 frames each: half an hour, two hours in make codecs."""


def test_the_end_of_a_long_film_is_in_sync(tmp_path: Path) -> None:
    frames = write_long_film(tmp_path / "day.mkv", LOOPS)
    assert frames == LOOPS * LOOP_FRAMES
    marks = f"name,in,out\nend,{frames - 360},{frames - 1}\nstart,120,479\n"
    (tmp_path / "m.csv").write_text(marks)
    done = boxkite("run", "day.mkv", "--by", "ranges", "--marks", "m.csv", "--names", "@marker", "--to", "stock:s",
                   "--to", "copy:c", "--json", cwd=tmp_path)  # fmt: skip
    assert done.status == 0, done.out + done.err
    expected = [(1, frame % LOOP_FRAMES) for frame in range(120, 479)]
    heard = {}
    for name in ("end", "start"):
        assert frames_of(tmp_path / f"s/{name}.mov") == expected
        samples, rate = audio_of(tmp_path / f"s/{name}.mov")
        heard[name] = find_ticks(samples, rate)
    ticks = list(tick_frames(LOOP_FRAMES, RATE))
    wanted = [tick + loop * LOOP_FRAMES for loop in range(2) for tick in ticks]
    places = [
        sample_at(tick, RATE, 8000) - sample_at(120, RATE, 8000) for tick in wanted if 120 <= tick < 479
    ]
    for found in heard.values():
        assert len(found) == len(places)
        assert all(
            abs(a - b) <= 12 for a, b in zip(found, places, strict=True)
        )  # 1.5 ms: times are whole ones
    copied = next(file for file in done.json["files"] if file["preset"] == "copy")
    first = copied["in_frame"]
    assert first <= frames - 360
    assert frames_of(Path(copied["path"]))[0] == (1, first % LOOP_FRAMES)
