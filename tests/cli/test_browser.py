"""Web files play in a real browser: size, length, frames at their times, sound. Needs Chromium; skipped without it."""

from __future__ import annotations

import json
import shutil
import subprocess
import threading
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import pytest

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.verification import boxkite

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
RATE = FrameRate.parse("25")
PAGE = """<!doctype html><body><video id=v muted></video><pre id=said></pre><script>
const wait = (target, name) => new Promise((done, fail) => {
  target.addEventListener(name, done, {once: true});
  target.addEventListener("error", () => fail("cannot play"), {once: true});
});
async function look(name) {
  const video = document.getElementById("v"), found = {name};
  video.src = name;
  await wait(video, "loadedmetadata");
  found.size = [video.videoWidth, video.videoHeight];
  found.seconds = video.duration;
  const canvas = document.createElement("canvas");
  canvas.width = video.videoWidth; canvas.height = video.videoHeight;
  const paper = canvas.getContext("2d");
  found.at = [];
  for (const frame of [0, 37, 74]) {
    const shown = new Promise(done => video.requestVideoFrameCallback(done));
    video.currentTime = (frame + 0.5) / 25;
    await wait(video, "seeked");
    await Promise.race([shown, new Promise(done => setTimeout(done, 3000))]);
    paper.drawImage(video, 0, 0);
    const data = paper.getImageData(0, 4, canvas.width, 1).data;
    const row = [];
    for (let x = 0; x < canvas.width; x++) row.push(data[4 * x + 1]);
    found.at.push([video.currentTime, row]);
  }
  const bytes = await (await fetch(name)).arrayBuffer();
  const sound = await new OfflineAudioContext(2, 1, 48000).decodeAudioData(bytes);
  const heard = sound.getChannelData(0);
  found.sound = [sound.duration, Math.max(...heard.slice(0, 48000))];
  return found;
}
(async () => {
  const all = [];
  for (const name of NAMES) {
    try { all.push(await look(name)); } catch (error) { all.push({name, error: String(error)}); }
  }
  await fetch("/said", {method: "POST", body: JSON.stringify(all)});
})();
</script>"""


class Server(SimpleHTTPRequestHandler):
    """Serves files with ranges, as browsers ask for, and takes what the page says."""

    message: ClassVar[list[dict]] = []
    arrived = threading.Event()

    def do_POST(self) -> None:
        Server.message = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        self.send_response(204)
        self.end_headers()
        Server.arrived.set()

    def do_GET(self) -> None:
        path = Path(self.translate_path(self.path))
        wanted = self.headers.get("Range")
        if not wanted or not path.is_file():
            return super().do_GET()
        data = path.read_bytes()
        first, _, last = wanted.removeprefix("bytes=").partition("-")
        start, end = int(first), min(int(last or len(data) - 1), len(data) - 1)
        self.send_response(206)
        self.send_header("Content-Type", "video/webm" if path.suffix == ".webm" else "video/mp4")
        self.send_header("Content-Range", f"bytes {start}-{end}/{len(data)}")
        self.send_header("Content-Length", str(end - start + 1))
        self.end_headers()
        self.wfile.write(data[start : end + 1])
        return None

    def log_message(self, format: str, *args: object) -> None:
        """Nothing."""


@pytest.mark.skipif(CHROMIUM is None, reason="there is no Chromium here")
def test_web_files_play_in_a_browser_with_their_frames_and_audio(tmp_path: Path) -> None:
    write_movie(Movie(tmp_path / "dip.mov", 75, RATE, ((0, VAT), (40, LOFT)), width=320, height=180))
    presets = {"web": "mp4", "web-vp9": "webm", "web-av1": "mp4", "review": "mp4"}
    words = [word for preset in presets for word in ("--to", f"{preset}:{preset}")]
    done = boxkite("run", "dip.mov", *words, cwd=tmp_path)
    assert done.status == 0, done.err
    names = [f"{preset}/dip.{extension}" for preset, extension in presets.items()]
    (tmp_path / "page.html").write_text(PAGE.replace("NAMES", json.dumps(names)))
    Server.arrived.clear()
    server = ThreadingHTTPServer(("127.0.0.1", 0), partial(Server, directory=str(tmp_path)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    address = f"http://127.0.0.1:{server.server_port}/page.html"
    browser = subprocess.Popen(
        [str(CHROMIUM), "--headless", "--no-sandbox", "--disable-gpu", "--autoplay-policy=no-user-gesture-required",
         f"--user-data-dir={tmp_path}/profile", "--remote-debugging-port=0", address],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        assert Server.arrived.wait(90), "the page said nothing"
    finally:
        browser.kill()
        browser.wait()
        server.shutdown()
        server.server_close()
    for found, preset in zip(Server.message, presets, strict=True):
        assert "error" not in found, found
        size = [160, 90] if preset == "review" else [320, 180]
        assert found["size"] == size
        assert abs(found["seconds"] - 3) < 0.06
        for frame, (time, row) in zip((0, 37, 74), found["at"], strict=True):
            assert abs(time - (frame + 0.5) / 25) < 0.002
            assert frame_in(row) == frame, (preset, frame)
        seconds, loudest = found["sound"]
        assert abs(seconds - 3) < 0.06 and loudest > 0.1


def frame_in(row: list[int]) -> int:
    """The frame number in a line of a picture's bar code."""
    import numpy as np
    from av.video.frame import VideoFrame

    from boxkite.demo import read_barcode

    picture = VideoFrame.from_ndarray(
        np.tile(np.array(row, np.uint8), (len(row) * 9 // 16, 1)), format="gray"
    )
    return read_barcode(picture)[1]
