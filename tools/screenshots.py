"""Remake the pictures in docs/screenshots from the demo's footage. Usage: screenshots.py [NAME …]

Needs Xvfb, xterm and ImageMagick's import (apt-get install xvfb xterm imagemagick fonts-dejavu-core).
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
TARGET = ROOT / "docs" / "screenshots"
BOXKITE = Path(sys.executable).with_name("boxkite")
DISPLAY = ":94"
MILL = "demo/mill.mov --marks demo/mill.edl"
TERMINALS: dict[str, tuple[str, float, int]] = {
    # name: (arguments after "boxkite", seconds to wait before the picture, columns)
    "help": ("--help", 2, 126),
    "inspect": ("inspect demo", 3, 126),
    "plan": (f"plan {MILL} --to review:out/review --to stock:out/stock", 3, 126),
    "run": (f"run {MILL} --to web:made/web --to stock:made/stock", 9, 126),
    "round": ("run demo/mill.toml", 22, 126),
    "status": ("status last", 2, 80),
    "log": ("log last 3 --errors", 2, 126),
    "verify": ("verify demo/out --deep", 16, 126),
    "presets": ("presets", 3, 126),
    "tokens": ("inspect demo/card/B-loft7.mov --tokens --metadata demo/slates.csv", 3, 126),
    "inspect-deep": ("inspect demo/mill.mov --deep", 3, 126),
    "plan-edit": ("plan demo/day.otio --by cuts --picture originals --handles 12 --to review:cuts", 3, 126),
    "mark": (
        "mark change demo/card --search dip --keyword hands --name @marker_@(count:01)",
        3,
        126,
    ),
    "rename": ("rename demo/card --names @camera@scene@shot.t@take --metadata demo/slates.csv", 3, 126),
    "trim": ("trim demo/day.otio --media demo/card --handles 6 --to copy:trimmed", 5, 126),
}

ROUND = """
paths = ["mill.mov"]
marks = "mill.edl"
names = "@(count:01)_@(marker:slug)"
to = ["review:../done/review"]
manifest = "mhl"

[[after]]
step = "verify"
deep = true

[[after]]
step = "contact-sheet"
into = "../done/shots.pdf"

[[after]]
step = "relink"
into = "../done/shots.otio"

[[after]]
step = "shot-folders"
into = "../done/work"

[[after]]
step = "send"
to = ["../client"]
"""
"""A job with the steps that follow."""
MARKS: tuple[tuple[str, ...], ...] = (
    ("import", "demo/card/A-vat2.mov", "demo/picks.csv"),
    ("import", "demo/card/B-loft7.mov", "demo/picks.csv"),
    (
        "add",
        "demo/card/A-vat2.mov",
        "--in",
        "3s",
        "--length",
        "20",
        "--name",
        "dip again",
        "--note",
        "too fast",
    ),
)
"""Marks that the pictures of marking begin with."""


def shoot(name: str, words: str, wait: float, columns: int, folder: Path) -> None:
    """Run one command in a terminal of so many columns and take its picture."""
    quoted = " ".join(f'"{word}"' if "@" in word or "*" in word else word for word in words.split())
    script = f"clear; printf '$ boxkite {quoted}\\n'; PATH={BOXKITE.parent}:$PATH boxkite {quoted}; sleep 60"
    size = "12" if columns == 126 else "18"
    command = ["xterm", "-fa", "DejaVu Sans Mono", "-fs", size, "-geometry", f"{columns}x40+0+0", "-bg", "#1b1d21",
               "-fg", "#e6e2d8", "-b", "8", "-e", "sh", "-c", script]  # fmt: skip
    environment = {**os.environ, "DISPLAY": DISPLAY, "TERM": "xterm-256color", "COLORTERM": "truecolor"}
    terminal = subprocess.Popen(command, cwd=folder, env=environment)
    time.sleep(wait)
    subprocess.run(["import", "-window", "root", TARGET / f"{name}.png"], env=environment, check=True)
    terminal.terminate()
    terminal.wait()


def batch_with_a_failure(folder: Path) -> None:
    """A batch of a film that is damaged in one of its shots."""
    damaged = folder / "mill-copy.mov"
    data = bytearray((folder / "demo" / "mill.mov").read_bytes())
    middle = len(data) * 2 // 5
    data[middle : middle + 40_000] = b"\xa5\x5a" * 20_000
    damaged.write_bytes(data)
    words = [str(damaged), "--marks", "demo/mill.edl", "--to", "review:damaged/review"]
    subprocess.run([BOXKITE, "run", *words], cwd=folder, check=False, stdout=subprocess.DEVNULL)


def preview(folder: Path) -> None:
    """A frame of the program beside that of its review file, with a look."""
    words = f"preview {MILL} --to review:out/review --look demo/warm.cube --file 2 --before-after"
    still = folder / "preview.png"
    command = [str(BOXKITE), *words.split(), "--still", str(still)]
    subprocess.run(command, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    shutil.copy(still, TARGET / "preview.png")


def contact_sheet(folder: Path) -> None:
    """A page of the stock files."""
    words = ["contact-sheet", "demo/out/stock", "--title", "A Hundred Sheets", "--page", "screen"]
    words += ["--into", "sheet.png"]
    subprocess.run([BOXKITE, *words], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    command = ["convert", str(folder / "sheet.png"), "-resize", "1280x800", str(TARGET / "contact-sheet.png")]
    subprocess.run(command, check=True)


def review_page(folder: Path) -> None:
    """The page of the demo with a shot open, and a note with lines on it."""
    sys.path.insert(0, str(ROOT))
    from tests.browser import browser

    shown = "document.getElementById('video')"
    with browser(1280, 800) as page:
        page.open((folder / "demo" / "page" / "index.html").as_uri())
        page.wait("window.reviewPage")
        page.run("document.querySelectorAll('.card')[1].click()")
        page.wait(f"{shown}.readyState >= 2")
        page.run("window.reviewPage.player.seek(30)")
        lines = "[[[0.3, 0.55], [0.36, 0.5], [0.42, 0.55], [0.36, 0.6], [0.3, 0.55]]]"
        note = f"store.note(data.shots[1], 30, 42, 'The sheet folds here.', {lines}, '')"
        page.run(f"(({{store, data}}) => {{ store.reviewer = 'Ada'; {note} }})(window.reviewPage)")
        page.key("1")
        page.run("document.querySelectorAll('.card')[1].click()")
        page.wait(f"{shown}.readyState >= 2")
        page.run("window.reviewPage.player.seek(30)")
        page.wait(f"!{shown}.seeking")
        time.sleep(5)  # the message at the foot goes
        page.picture(TARGET / "review-page.png")


def strip(folder: Path) -> None:
    """The cuts that were found in the program."""
    words = ["mark", "detect", "demo/mill.mov", "--strip", str(folder / "strip.png")]
    subprocess.run([BOXKITE, *words], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    shutil.copy(folder / "strip.png", TARGET / "strip.png")


DRAWN = {"preview": preview, "strip": strip, "contact-sheet": contact_sheet, "review-page": review_page}
"""Pictures that are no terminal's."""


def main() -> None:
    """Draw the demo, then take every picture asked for."""
    missing = [tool for tool in ("Xvfb", "xterm", "import") if not shutil.which(tool)]
    if missing:
        raise SystemExit(
            f"{', '.join(missing)} missing: apt-get install xvfb xterm imagemagick fonts-dejavu-core"
        )
    TARGET.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or [*TERMINALS, *DRAWN]
    folder = Path(tempfile.gettempdir()) / "hundred-sheets"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    os.environ["BOXKITE_STATE"] = str(folder / "state")
    try:
        subprocess.run([BOXKITE, "demo", "demo"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        (folder / "demo" / "mill.toml").write_text(ROUND)
        for mark in MARKS:
            subprocess.run([BOXKITE, "mark", *mark], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
        try:
            time.sleep(1)
            for shot in wanted:
                if shot in TERMINALS:
                    if shot == "status":
                        batch_with_a_failure(folder)
                    shoot(shot, *TERMINALS[shot], folder)
                    if shot == "rename":
                        undo = [str(BOXKITE), "rename", "--undo"]
                        subprocess.run(undo, cwd=folder, check=True, stdout=subprocess.DEVNULL)
                    print(f"docs/screenshots/{shot}.png")
            for name in [one for one in DRAWN if one in wanted]:
                DRAWN[name](folder)
                print(f"docs/screenshots/{name}.png")
        finally:
            screen.terminate()
            screen.wait()
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
