"""Stops any command before any step on disk or journal, then does what a user would do next, and compares.

A step is a call that changes the disk: a file made, written to, brought to the disk, renamed or removed, by the
program, the codec library or the database. They are counted by a small library loaded before the C library
(steps.c), in all processes of a command together.
"""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import struct
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.moving import discard
from boxkite.core.files.sweeping import sweep
from tests.verification import Run, decoded_hash
from tests.warm import Warm

HERE = Path(__file__).parent
KILL, KILL_ONE = -1, -2
FAULTS = {
    "kill": KILL,
    "kill one": KILL_ONE,
    "EIO": errno.EIO,
    "ENOSPC": errno.ENOSPC,
    "EACCES": errno.EACCES,
}
_CONTROL = struct.Struct("6q")
_MEDIA = (".mov", ".mp4", ".mkv")
_LISTS = ("checksums.xxh128", "metadata.csv")
Tree = dict[str, str]


@lru_cache(maxsize=1)
def library() -> Path:
    """The library that counts, made once."""
    made = Path(os.environ["BOXKITE_STATE"]) / f"steps-{os.getpid()}.so"
    source = HERE / "steps.c"
    command = ["gcc", "-shared", "-fPIC", "-O1", "-o", str(made), str(source), "-ldl"]
    subprocess.run(command, check=True, capture_output=True)
    return made


@lru_cache(maxsize=1)
def _warm() -> Warm:
    return Warm({**os.environ, "LD_PRELOAD": str(library())})


@dataclass(frozen=True)
class Scenario:
    """One command on some files.

    prepare: makes the files once. setup: commands that run undisturbed before each try. command: that is disturbed;
    then: what a user would run afterwards. kept: what must be untouched by all of it, as paths below the folder.
    fresh: folders that are put back as they were before each try; what lies elsewhere is never changed by the command.
    old_system: as if the file system knew no exchange. last_status: of the last command.
    """

    name: str
    prepare: Callable[[Path], None]
    command: tuple[str, ...]
    then: tuple[tuple[str, ...], ...] = ()
    setup: tuple[tuple[str, ...], ...] = ()
    kept: tuple[str, ...] = ()
    fresh: tuple[str, ...] = ("out",)
    old_system: bool = False
    last_status: tuple[int, ...] = (0,)


@dataclass
class Trial:
    """A scenario in a folder, with its tree before, and after an undisturbed run of all commands."""

    scenario: Scenario
    folder: Path
    steps: int = 0
    before: Tree = field(default_factory=dict)
    after: Tree = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._pristine = self.folder.with_name(f"{self.folder.name}-pristine")
        self._control = self.folder.with_name(f"{self.folder.name}-control")
        self._log = self.folder.with_name(f"{self.folder.name}-log")
        self.folder.mkdir(parents=True)
        self.scenario.prepare(self.folder)
        self._pristine.mkdir()
        for name in self.scenario.fresh:
            _copy(self.folder / name, self._pristine / name)
        self._put_back()
        self.before = tree(self.folder)
        done = self._run(self.scenario.command)
        assert done.status in self.scenario.last_status, done
        self.steps = self._read()[0]
        self.log = self._log.read_text(errors="replace").splitlines()
        self.after = tree(self.folder)

    def points(self, every: int = 1) -> Iterator[int]:
        """The steps at which it can be stopped."""
        return iter(range(0, self.steps, every))

    def disturbed(self, at: int, what: int, *, onward: bool = False) -> list[str]:
        """Stop it at a step, run what comes next, and say what is wrong then."""
        self._put_back()
        before = tree(self.folder)
        done = self._run(self.scenario.command, at, what, onward=onward)
        fired = self._read()[4]
        wrong = [
            f"said {line!r}"
            for line in done.err.splitlines()
            if "Traceback" in line or "wrong inside" in line
        ]
        now = tree(self.folder)
        wrong += self._half_made(before, now)
        if not self.scenario.old_system:  # there the next command finishes what takes two steps
            wrong += [f"{name} is gone" for name in self._versions() if name in before and name not in now]
        if done.status == 0 and fired and what not in (KILL, KILL_ONE) and seen(now) != seen(self.after):
            wrong.append("status 0, and not everything is there")
        if done.status == 0 and (inode := self._read()[5]):
            wrong += [
                f"status 0, and the disk said once that it has lost {name}" for name in self._bears(inode)
            ]
        last = None
        is_done = done.status == 0 and seen(now) == seen(self.after)
        for command in () if is_done else self.scenario.then:
            last = self._run(command)
            if "Traceback" in last.err or "wrong inside" in last.err:
                wrong.append(f"then said {last.err}")
        end = tree(self.folder)
        if last and last.status not in self.scenario.last_status:
            wrong.append(f"then ended with {last.status}: {last.err.strip()[-300:]}")
        wrong += self._untouched(before, end)
        if self.scenario.then:
            wrong += tree_differences(seen(end), seen(self.after))
            for folder in {above for name in end for above in (self.folder / name).parents}:
                sweep(folder)  # as the next command that writes there does
            wrong += [f"{name} is left over" for name in tree(self.folder) if _is_left_over(name)]
        return [f"{self.scenario.name}, step {at} ({self._step(at)}), fault {what}: {line}" for line in wrong]

    def _step(self, at: int) -> str:
        return self.log[at] if at < len(self.log) else "?"

    def _bears(self, inode: int) -> Iterator[str]:
        """The names of a file; records are the database's own."""
        for path in self.folder.rglob("*"):
            if path.lstat().st_ino == inode and not _is_journal(path.relative_to(self.folder).as_posix()):
                yield path.name

    def _half_made(self, before: Tree, now: Tree) -> list[str]:
        """Names that bear neither what was there nor what is made."""
        return [
            f"{name} is neither what it was nor what it becomes"
            for name, content in seen(now).items()
            if content not in (before.get(name), self.after.get(name))
            and not self._is_partly_done(name, before, content)
        ]

    def _is_partly_done(self, name: str, before: Tree, content: str) -> bool:
        """Whether a list that grows line by line holds all that it held, and of what it becomes a part."""
        if not name.endswith(_LISTS):
            return _is_journal(name)
        held, now, becomes = (
            {line for line in text.splitlines() if not line.startswith("File,")}  # its head grows too
            for text in (before.get(name, ""), content, self.after[name])
        )
        return held <= now <= held | becomes

    def _versions(self) -> list[str]:
        """What has a version before and one after, so that one of them is always there."""
        return [name for name in seen(self.before) if name in seen(self.after)]

    def _untouched(self, before: Tree, now: Tree) -> list[str]:
        return [
            f"{name} was changed"
            for name, content in before.items()
            if name.startswith(self.scenario.kept) and now.get(name) != content
        ]

    def _put_back(self) -> None:
        """Everything as it was before the command."""
        for name in ("state", *self.scenario.fresh):
            discard(self.folder / name)
            _copy(self._pristine / name, self.folder / name)
        for command in self.scenario.setup:
            done = self._run(command)
            assert done.status == 0, done
        self._log.unlink(missing_ok=True)

    def _run(self, words: tuple[str, ...], at: int = -1, what: int = 0, *, onward: bool = False) -> Run:
        self._control.write_bytes(_CONTROL.pack(0, at, what, onward, 0, 0))
        env = {
            **os.environ,
            "LD_PRELOAD": str(library()),
            "STEPS_CONTROL": str(self._control),
            "STEPS_BELOW": str(self.folder),
            "STEPS_LOG": str(self._log),
            "BOXKITE_STATE": str(self.folder / "state"),
            "BOXKITE_CACHE": "",
            "BOXKITE_PRESETS": str(self.folder / "presets"),
            "BOXKITE_PATTERNS": str(self.folder / "presets" / "patterns.toml"),
        }
        if self.scenario.old_system:
            env["STEPS_OLD_SYSTEM"] = "1"
        status, out, err = _warm().run(list(words), self.folder, env, 120)
        return Run(status, out, err)

    def _read(self) -> tuple[int, ...]:
        return _CONTROL.unpack(self._control.read_bytes())


def _copy(old: Path, new: Path) -> None:
    if old.is_dir():
        shutil.copytree(old, new, symlinks=True)
    elif old.exists():
        shutil.copy2(old, new)


def tree(folder: Path) -> Tree:
    """Every file below a folder with what it holds; media by their decoded pictures, journals not at all."""
    while True:
        with contextlib.suppress(FileNotFoundError):  # a worker whose program was killed is still clearing up
            return _tree_now(folder)


def _tree_now(folder: Path) -> Tree:
    found = {}
    for path in sorted(folder.rglob("*")):
        name = path.relative_to(folder).as_posix()
        if name.startswith("state/") and not name.startswith("state/renames"):
            continue
        if path.is_symlink():
            found[name] = f"link {path.readlink()}"
        elif path.is_file():
            there = path.stat()
            found[name] = _content(str(path), there.st_size, there.st_mtime_ns, there.st_ino)
    return found


@lru_cache(maxsize=4000)
def _content(path: str, size: int, modified: int, inode: int) -> str:
    if path.endswith(_LISTS):
        return "\n".join(sorted(Path(path).read_text("utf-8-sig").splitlines()))
    if path.endswith(_MEDIA):
        try:
            return decoded_hash(Path(path))
        except Exception:  # half-written
            pass
    return file_checksum(Path(path))


def seen(found: Tree) -> Tree:
    """What a user sees of a tree."""
    return {
        name: content for name, content in found.items() if not _is_hidden(name) and not _is_journal(name)
    }


def tree_differences(now: Tree, wanted: Tree) -> list[str]:
    """What is missing, too much or different."""
    names = sorted(now.keys() | wanted.keys())
    return [
        f"{name}: {'missing' if name not in now else 'too much' if name not in wanted else 'different'}"
        for name in names
        if now.get(name) != wanted.get(name)
    ]


def _is_hidden(name: str) -> bool:
    return any(part.startswith(".") for part in name.split("/"))


def _is_journal(name: str) -> bool:
    return name.startswith("state/")


def _is_left_over(name: str) -> bool:
    return ".boxkite-" in name
