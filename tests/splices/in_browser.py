"""Exact cuts played by a real browser, frame by frame: python -m tests.splices.in_browser [NAME…].

Exit status 1 where it shows another frame than the bar code says, or fewer than nine of ten.
"""

from __future__ import annotations

import base64
import io
import json
import subprocess
import sys
import tempfile
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from PIL import Image

import tests.conftest  # noqa: F401  what is remembered lies in folders of its own
from boxkite.core.timebase import FrameRate
from boxkite.demo import read_barcode
from tests.browser import Page, browser
from tests.splices.sources import SOURCES, write_source

NAMES = ("gop12", "gop25", "pyramid", "slices", "cavlc", "baseline", "main", "cropped", "weighted", "23.976",
         "repeated-sets", "sixteen-references")  # fmt: skip
SPANS = ((3, 60), (31, 118), (40, 87))
PLAY = """(async () => {
const place = canvas.getContext("2d"), shown = [];
canvas.width = video.videoWidth; canvas.height = video.videoHeight; video.playbackRate = 0.5;
await new Promise((done) => {
  const step = (now, frame) => {
    place.drawImage(video, 0, 0);
    shown.push([frame.mediaTime, canvas.toDataURL().split(",")[1]]);
    video.requestVideoFrameCallback(step);
  };
  video.requestVideoFrameCallback(step);
  video.onended = () => setTimeout(done, 200);
  video.play();
});
return shown;
})()"""


def frames_shown(page: Page, path: Path, rate: Fraction) -> dict[int, int]:
    """The bar code of each frame that the browser showed, by its place in the file."""
    video = base64.b64encode(path.read_bytes()).decode()
    html = path.with_suffix(".html")
    html.write_text(
        f'<video id="video" muted src="data:video/mp4;base64,{video}"></video><canvas id="canvas"></canvas>'
    )
    page.open(html.as_uri())
    page.wait("video.readyState >= 2")
    found = {}
    for time, picture in page.run(PLAY):
        pixels = np.array(Image.open(io.BytesIO(base64.b64decode(picture))).convert("RGB"))
        frame = av.VideoFrame.from_ndarray(pixels, format="rgb24").reformat(format="yuv420p")
        found[round(time * rate)] = read_barcode(frame)[1]
    return found


def main() -> int:
    bad = count = 0
    with browser() as page, tempfile.TemporaryDirectory() as name:
        for coding in sys.argv[1:] or NAMES:
            folder = Path(name) / coding
            folder.mkdir()
            source = write_source(coding, folder)
            rows = "".join(f"s{start},{start},{end}\n" for start, end in SPANS)
            (folder / "marks.csv").write_text(f"name,in,out\n{rows}")
            words = (sys.executable, "-m", "boxkite", "run", source.name, "--by", "ranges", "--marks", "marks.csv",
                     "--names", "@marker", "--to", "copy:out", "--exact-cuts", "--json")  # fmt: skip
            done = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=True)
            for file in json.loads(done.stdout)["files"]:
                if file["how"] != "splice":
                    continue
                rate = FrameRate.parse(SOURCES[coding].rate).fraction
                shown = frames_shown(page, Path(file["path"]), rate)
                others = {place: code for place, code in shown.items() if code != file["in_frame"] + place}
                count += 1
                if others or len(shown) < 0.9 * file["frames"]:
                    bad += 1
                    print(
                        f"{coding} {file['name']}: {len(shown)} of {file['frames']} frames, others {others}"
                    )
    print(f"{count} files played, {bad} wrong")
    return int(bool(bad) or not count)


if __name__ == "__main__":
    sys.exit(main())
