"""The commands that change the disk, each with its files and with what a user would run after it was stopped."""

from __future__ import annotations

from pathlib import Path

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.faults.harness import Scenario

RATE = FrameRate.parse("25")
MARKS = "name,in,out\ndip,0,8\nlift,8,18\n"
SMALL = ("--set", "fit=96x64", "--set", "review.burn_in=[]", "--set", "review.watermark=[]")
AT = ("--by", "ranges", "--marks", "picks.csv", "--workers", "1")
REVIEW = ("run", "film.mov", *AT, "--to", "web:out")
EDIT = """TITLE: CUT
FCM: NON-DROP FRAME

001  FILM     V     C        00:00:00:00 00:00:00:08 01:00:00:00 01:00:00:08
* FROM CLIP NAME: film.mov
"""


def film(folder: Path, name: str = "film.mov") -> None:
    """A source of twenty frames and a list of two shots."""
    write_movie(Movie(folder / name, 20, RATE, ((0, VAT), (10, LOFT)), width=96, height=64))
    (folder / "picks.csv").write_text(MARKS)
    (folder / "tree.toml").write_text(TREE)


TREE = """folder = "@marker"
places = ["work"]
files = "copy"
files-into = "plates"
[order]
text = "@marker @frames"
"""


def edited(folder: Path) -> None:
    """The same with an edit of it."""
    film(folder)
    (folder / "work").mkdir()
    (folder / "cut.edl").write_text(EDIT)


def round_job(folder: Path) -> None:
    """A job with steps after its files."""
    film(folder)
    (folder / "job.toml").write_text(
        'paths = ["film.mov"]\nby = "ranges"\nmarks = "picks.csv"\nto = ["web:out"]\n'
        '[[after]]\nstep = "verify"\n[[after]]\nstep = "catalogue"\ninto = "work/shots.csv"\nexisting = "replace"\n'
        '[[after]]\nstep = "send"\nto = ["work/there"]\nworkers = 1\n'
    )


def card(folder: Path) -> None:
    """A card of two clips with what lies beside them."""
    (folder / "card").mkdir()
    for name in ("a", "b"):
        write_movie(Movie(folder / f"card/{name}.mov", 4, RATE, ((0, VAT),), width=96, height=64))
        (folder / f"card/{name}.xmp").write_text("<x/>")
    (folder / "card/marks.csv").write_text("source,name,in,out\na.mov,dip,0,3\nb.mov,lift,0,3\n")
    (folder / "slates.csv").write_text("File,Scene\na.mov,1\nb.mov,2\n")


def dated(folder: Path) -> None:
    """A card, and a place where a gather of before has left its tables, with lines of somebody else."""
    card(folder)
    (folder / "out").mkdir()
    (folder / "out/metadata.csv").write_text("File,Note\nelse.mov,mine\n")
    (folder / "out/checksums.xxh128").write_text("# by hand\n")


def landing(folder: Path) -> None:
    """A folder in which a file has landed, and the job by which it is made."""
    (folder / "landing").mkdir()
    write_movie(Movie(folder / "landing/a.mov", 8, RATE, ((0, VAT),), width=96, height=64))
    (folder / "job.toml").write_text('to = ["web:out"]\nby = "files"\n')


def copies(folder: Path) -> None:
    """A source that is cut anywhere without encoding."""
    film(folder)


def alone(folder: Path) -> None:
    """The same of pictures that all stand alone."""
    film(folder)
    write_movie(Movie(folder / "film.mov", 20, RATE, ((0, VAT),), width=96, height=64, encoder="mjpeg", options={},
                      pixel_format="yuvj420p"))  # fmt: skip


def keyed(folder: Path) -> None:
    """The same with a keyframe every five frames, of which shots begin and end between them."""
    film(folder)
    write_movie(Movie(folder / "film.mov", 20, RATE, ((0, VAT),), width=96, height=64,
                      options={"preset": "ultrafast", "g": "5", "bf": "1"}))  # fmt: skip
    (folder / "picks.csv").write_text("name,in,out\ndip,1,8\nlift,8,19\n")


def long(folder: Path) -> None:
    """A film of three frames a second that is long enough for chunks."""
    write_movie(Movie(folder / "film.mov", 66, FrameRate.parse("3"), ((0, VAT),), width=96, height=64))


SKIP = ("--existing", "skip")
BETTER = ("--set", "web.video.quality=40")
SCENARIOS = (
    Scenario("run", film, REVIEW, (("resume",), (*REVIEW, *SKIP)), kept=("film.mov", "picks.csv")),
    Scenario(
        "replace",
        film,
        (*REVIEW, *BETTER, "--existing", "replace"),
        (("resume",), (*REVIEW, *BETTER, "--existing", "replace")),
        setup=(REVIEW,),
        kept=("film.mov",),
    ),
    Scenario(
        "replace without exchange",
        film,
        (*REVIEW, *BETTER, "--existing", "replace"),
        (("resume",), (*REVIEW, *BETTER, "--existing", "replace")),
        setup=(REVIEW,),
        kept=("film.mov",),
        old_system=True,
    ),
    Scenario(
        "images",
        film,
        ("run", "film.mov", *AT, "--to", "frames-jpeg:out"),
        (("resume",), ("run", "film.mov", *AT, "--to", "frames-jpeg:out", *SKIP)),
        kept=("film.mov",),
    ),
    Scenario(
        "images replaced",
        film,
        ("run", "film.mov", *AT, "--to", "frames-jpeg:out", "--existing", "replace"),
        (("resume",), ("run", "film.mov", *AT, "--to", "frames-jpeg:out", "--existing", "replace")),
        setup=(("run", "film.mov", *AT, "--to", "frames-jpeg:out"),),
        kept=("film.mov",),
    ),
    Scenario(
        "images replaced without exchange",
        film,
        ("run", "film.mov", *AT, "--to", "frames-jpeg:out", "--existing", "replace"),
        (("resume",), ("run", "film.mov", *AT, "--to", "frames-jpeg:out", "--existing", "replace")),
        setup=(("run", "film.mov", *AT, "--to", "frames-jpeg:out"),),
        kept=("film.mov",),
        old_system=True,
    ),
    Scenario(
        "copy joined",
        copies,
        ("run", "film.mov", *AT, "--to", "copy:out", "--joined", "also"),
        (("resume",), ("run", "film.mov", *AT, "--to", "copy:out", "--joined", "also", *SKIP)),
        kept=("film.mov",),
    ),
    Scenario(
        "copy from file to file",
        alone,
        ("run", "film.mov", *AT, "--to", "copy:out"),
        (("resume",), ("run", "film.mov", *AT, "--to", "copy:out", *SKIP)),
        kept=("film.mov",),
    ),
    Scenario(
        "exact cuts",
        keyed,
        ("run", "film.mov", *AT, "--to", "copy:out", "--exact-cuts"),
        (("resume",), ("run", "film.mov", *AT, "--to", "copy:out", "--exact-cuts", *SKIP)),
        kept=("film.mov",),
    ),
    Scenario(
        "chunks",
        long,
        ("run", "film.mov", "--by", "files", "--to", "web:out", "--in-chunks"),
        (("resume",), ("run", "film.mov", "--by", "files", "--to", "web:out", "--in-chunks", *SKIP)),
        kept=("film.mov",),
    ),
    Scenario(
        "gather",
        dated,
        ("gather", "card", "--into", "out", "--value", "Unit=second"),
        (("gather", "card", "--into", "out", "--value", "Unit=second"),),
        kept=("card/",),
    ),
    Scenario(
        "watch",
        landing,
        ("watch", "landing", "--job", "job.toml", "--settle", "0", "--once", "--every", "0.1"),
        (("resume",), ("watch", "landing", "--job", "job.toml", "--settle", "0", "--once", "--every", "0.1")),
        kept=("landing/",),
    ),
    Scenario(
        "rename",
        card,
        ("rename", "card", "--names", "@scene_@clip", "--metadata", "slates.csv"),
        (
            ("status",),
            ("rename", "--undo"),
            ("rename", "card", "--names", "@scene_@clip", "--metadata", "slates.csv"),
        ),
        fresh=("card", "slates.csv"),
    ),
    Scenario(
        "undo",
        card,
        ("rename", "--undo"),
        (("rename", "--undo"), ("status",)),
        setup=(("rename", "card", "--names", "x_@clip"),),
        fresh=("card",),
    ),
    Scenario(
        "trim",
        edited,
        ("trim", "cut.edl", "--media", "film.mov", "--marks-rate", "25", "--to", "web:out"),
        (
            ("resume",),
            ("trim", "cut.edl", "--media", "film.mov", "--marks-rate", "25", "--to", "web:out", *SKIP),
        ),
        kept=("film.mov", "cut.edl"),
        last_status=(0, 2),
    ),
    Scenario(
        "marks",
        card,
        ("mark", "add", "card/a.mov", "--in", "0", "--out", "2", "--name", "new"),
        fresh=("card",),
    ),
    Scenario(
        "manifest",
        film,
        ("manifest", "out", "--form", "md5"),
        (("manifest", "out", "--form", "md5"),),
        setup=(("run", "film.mov", *AT, "--to", "copy:out"), ("manifest", "out", "--form", "md5")),
        kept=("film.mov",),
    ),
    Scenario(
        "review page",
        film,
        ("review-page", "out", "--into", "page", "--existing", "replace"),
        (("review-page", "out", "--into", "page", "--existing", "replace"),),
        setup=(REVIEW, ("review-page", "out", "--into", "page", "--title", "before")),
        kept=("film.mov", "out/"),
        fresh=("out", "page"),
    ),
    Scenario(
        "send",
        film,
        ("send", "out", "there", "--workers", "1"),
        (("send", "out", "there", "--workers", "1"),),
        setup=(REVIEW,),
        kept=("film.mov", "out/"),
        fresh=("out", "there"),
    ),
    Scenario(
        "relink",
        edited,
        ("relink", "cut.edl", "--to", "out", "--into", "work/there.otio", "--existing", "replace"),
        (("relink", "cut.edl", "--to", "out", "--into", "work/there.otio", "--existing", "replace"),),
        setup=(REVIEW, ("relink", "cut.edl", "--to", "out", "--into", "work/there.otio", "--tracks", "V1")),
        kept=("film.mov", "out/", "cut.edl"),
        fresh=("out", "work"),
    ),
    Scenario(
        "shot folders",
        film,
        ("shot-folders", "out", "--into", "work", "--tree", "tree.toml"),
        (("shot-folders", "out", "--into", "work", "--tree", "tree.toml"),),
        setup=(REVIEW,),
        kept=("film.mov", "out/"),
        fresh=("out", "work"),
    ),
    Scenario(
        "round",
        round_job,
        ("run", "job.toml"),
        (("resume",), ("run", "job.toml", *SKIP)),
        kept=("film.mov",),
        fresh=("out", "work"),
    ),
    Scenario("presets", film, ("presets", "new", "mine", "--based-on", "web"), fresh=("presets",)),
    Scenario("patterns", film, ("patterns", "save", "mine", "@clip"), fresh=("presets",)),
    Scenario(
        "saved plan",
        film,
        (
            "plan",
            "film.mov",
            *AT[:4],
            "--to",
            "web:out",
            "--save-plan",
            "out/plan.csv",
            "--save-job",
            "out/job.toml",
        ),
    ),
)
