""" "A Hundred Sheets": what the demo draws, and the lists and tables that go with it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from boxkite.core.edit.edl.markers import write_edl_markers
from boxkite.core.presets.fonts import TEXT_FONT
from boxkite.core.timebase import FrameRate, Timecode
from boxkite.demo.day import START, CardClip, DayEdit
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import BEATER, COUCH, LEADER, LOFT, PRESS, VAT

RATE = FrameRate.parse("25")
PROGRAM_START = "01:00:00:00"
PROGRAM_FRAMES = 600
PROGRAM_SCENES = (
    (0, LEADER),
    (20, BEATER),
    (133, VAT),
    (341, COUCH),
    (437, PRESS),
    (506, LOFT),
    (580, LEADER),
)
MARKERS = (
    (20, "RED", "beating the pulp"),
    (133, "GREEN", "first dip"),
    (251, "GREEN", "second dip"),
    (341, "BLUE", "couching"),
    (437, "RED", "pressing"),
    (506, "YELLOW", "sheets in the loft"),
    (580, "WHITE", "END"),
)
CLIPS = (
    ("A-vat2", 2, VAT, 100, "10:12:05:00", "A003", 1),
    ("B-loft7", 3, LOFT, 100, "14:40:31:12", "B001", 1),
    ("A-press4", 4, PRESS, 75, "11:55:00:10", "A004", 0),
    ("A-couch1", 5, COUCH, 75, "12:20:10:00", "A005", 1),
)
_RANGES = """\
name,source,in,out,keywords,note,circled
slow dip,A-vat2,10:12:05:12,10:12:07:06,"vat, hands",water runs off evenly,yes
shake,A-vat2,10:12:07:10,10:12:08:20,vat,,
wind in the sheets,B-loft7,14:40:32:00,14:40:34:10,"loft, light",best light of the day,yes
screw turns,A-press4,11:55:00:15,11:55:02:15,press,no audio on this one,
"""
_SLATES = """\
File;Scene;Shot;Take;Camera;Paper weight
A-vat2.mov;3;b;2;A;Heavy Rag
B-loft7.mov;6;a;7;B;Light Rag
A-press4.mov;5;a;4;A;Heavy Rag
A-couch1.mov;4;a;1;A;Heavy Rag
"""

SIDECAR = """\
<?xml version="1.0" encoding="UTF-8"?>
<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:xmpDM="http://ns.adobe.com/xmp/1.0/DynamicMedia/"
 xmlns:dc="http://purl.org/dc/elements/1.1/" xmpDM:scene="60" xmpDM:good="True">
<dc:subject><rdf:Bag><rdf:li>loft</rdf:li><rdf:li>light</rdf:li></rdf:Bag></dc:subject>
<xmpDM:logComment>best light of the day</xmpDM:logComment>
</rdf:Description></rdf:RDF>
"""


def draw_world(folder: Path, progress: Callable[[int, int], None] = lambda _done, _total: None) -> list[Path]:
    """Write the whole world into a folder and return its files. progress gets the frames done and the total."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "card").mkdir(exist_ok=True)
    day = DayEdit(
        [CardClip(name, number, place, at, reel) for name, number, place, _, at, reel, _ in CLIPS],
        RATE,
        "card",
    )
    day.write(folder)
    movies = [
        Movie(folder / "mill.mov", PROGRAM_FRAMES, RATE, PROGRAM_SCENES, timecode=PROGRAM_START, reel="MILL"),
        *(
            Movie(
                folder / "card" / f"{name}.mov",
                frames,
                RATE,
                ((0, place),),
                source=number,
                timecode=timecode,
                reel=reel,
                audio_tracks=tracks,
            )
            for name, number, place, frames, timecode, reel, tracks in CLIPS
        ),
        Movie(
            folder / "day.mov",
            day.timeline(nested=True).length,
            RATE,
            ((0, LEADER),),
            timecode=START,
            picture_at=day.picture(1280, 720),
        ),
    ]
    total = sum(movie.frames for movie in movies)
    before = 0
    for movie in movies:
        write_movie(movie, lambda done, base=before: progress(base + done, total))  # type: ignore[misc]
        before += movie.frames
    start = Timecode.parse(PROGRAM_START, RATE)
    write_edl_markers(
        folder / "mill.edl",
        "A Hundred Sheets",
        start,
        start + PROGRAM_FRAMES,
        [(start + frame, colour, name) for frame, colour, name in MARKERS],
    )
    (folder / "picks.csv").write_text(_RANGES, encoding="utf-8")
    (folder / "slates.csv").write_text(_SLATES, encoding="utf-8")
    (folder / "card" / "B-loft7.mov.xmp").write_text(SIDECAR, encoding="utf-8")
    (folder / "warm.cube").write_text(_warm_cube(), encoding="utf-8")
    _draw_watermark(folder / "mill-mark.png")
    return sorted(path for path in folder.rglob("*") if path.is_file())


def _warm_cube(size: int = 9) -> str:
    """A look that lifts reds and softens blues a little, as a 3D LUT (red runs fastest)."""
    lines = ['TITLE "A Hundred Sheets, warm"', f"LUT_3D_SIZE {size}"]
    for blue in range(size):
        for green in range(size):
            for red in range(size):
                r, g, b = (part / (size - 1) for part in (red, green, blue))
                lines.append(f"{min(1.0, r * 1.04 + 0.01):.6f} {g:.6f} {b * 0.92:.6f}")
    return "\n".join(lines) + "\n"


def _draw_watermark(path: Path) -> None:
    """A sheet of paper on a round stamp, white on nothing."""
    picture = Image.new("RGBA", (400, 400), (0, 0, 0, 0))
    draw = ImageDraw.Draw(picture)
    draw.ellipse((10, 10, 390, 390), outline=(255, 255, 255, 235), width=14)
    for index, shift in enumerate((24, 12, 0)):
        left, top = 130 + shift, 90 + shift
        shade = 255 - 30 * index
        draw.rectangle((left, top, left + 120, top + 150), fill=(shade, shade, shade, 230))
    font = ImageFont.truetype(str(TEXT_FONT), 40)
    draw.text((200, 318), "MILL", font=font, anchor="mm", fill=(255, 255, 255, 235))
    picture.save(path)
