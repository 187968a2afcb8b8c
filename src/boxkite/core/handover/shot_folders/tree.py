"""The tree of a shot's folder, as a TOML file says it."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from typing import Any, Literal, get_args

from msgspec import Struct

from boxkite.core.errors import RequestError
from boxkite.core.files.reading import read_bytes
from boxkite.core.files.toml import read_given_toml
from boxkite.core.naming.pattern import Pattern, read_pattern, read_text_pattern
from boxkite.core.suggest import did_you_mean

FOLDER = Path(__file__).with_name("trees")
How = Literal["link", "copy", "none"]
"""The files of a shot in its folder: links to where they are, copies, or not at all."""
EMPTY = Pattern("", ())
_MOST_BYTES = 1_000_000
_KEYS: dict[str, Any] = {
    "about": str, "folder": str, "places": list, "files": str, "files-into": str, "stills-into": str, "order": dict
}  # fmt: skip
_SAID: dict[Any, str] = {str: "a text, in quotes", list: "a list of texts", dict: "a table, as [order]"}


class Tree(Struct, frozen=True):
    """What a shot's folder holds."""

    path: Path
    folder: Pattern
    """Names the folder of a shot below the place where all are."""
    places: tuple[Pattern, ...] = ()
    """Empty folders in it."""
    files: How = "link"
    files_into: str = ""
    """The folder of the files in it; empty for the shot's own."""
    stills_into: str = ""
    """The folder of stills with notes; empty for none."""
    order_file: str = ""
    """The name of the work order; empty for none."""
    order: tuple[Pattern, ...] = ()
    """Its lines; one in which every token is empty is left out."""

    @property
    def patterns(self) -> tuple[Pattern, ...]:
        """All of them, to be checked."""
        return (self.folder, *self.places, *self.order)


def tree_path(words: str) -> Path:
    """The file that a path or a built-in name means. Raises RequestError."""
    if words.lower().endswith(".toml"):
        return Path(words)
    names = sorted(path.stem for path in FOLDER.glob("*.toml"))
    if words in names:
        return FOLDER / f"{words}.toml"
    hint = did_you_mean(words, names) or f"give a .toml file, or {', '.join(names)}"
    raise RequestError(f"there is no tree “{words}”", hint=hint)


def read_tree(path: Path) -> Tree:
    """The tree in a TOML file. Raises RequestError with file and key, PatternError."""
    tables = read_given_toml(path)
    for key, value in tables.items():
        if key not in _KEYS:
            raise RequestError(f"there is no key “{key}”", path=path,
                               hint=did_you_mean(key, _KEYS) or f"keys: {', '.join(_KEYS)}")  # fmt: skip
        if not isinstance(value, _KEYS[key]):
            raise RequestError(f"this is {_SAID[_KEYS[key]]}", path=path, key=key)
    if not tables.get("folder"):
        raise RequestError("it needs a pattern for the folder of a shot", path=path, key="folder")
    how = tables.get("files", "link")
    if how not in get_args(How):
        raise RequestError(f"this is one of {', '.join(get_args(How))}", path=path, key="files")
    places = tables.get("places", [])
    if not all(isinstance(one, str) for one in places):
        raise RequestError("this is a list of texts", path=path, key="places")
    name, text = _order(tables.get("order"), path)
    return Tree(
        path, read_pattern(tables["folder"]), tuple(map(read_pattern, places)), how,
        _inside(tables.get("files-into", ""), path, "files-into"),
        _inside(tables.get("stills-into", ""), path, "stills-into"), name, text,
    )  # fmt: skip


def _order(table: dict[str, Any] | None, path: Path) -> tuple[str, tuple[Pattern, ...]]:
    if table is None:
        return "", ()
    known = ("file", "text", "template")
    for key, value in table.items():
        if key not in known:
            raise RequestError(f"there is no key “{key}”", path=path, key="order",
                               hint=did_you_mean(key, known) or f"keys: {', '.join(known)}")  # fmt: skip
        if not isinstance(value, str):
            raise RequestError("this is a text, in quotes", path=path, key=f"order.{key}")
    text = table.get("text", "")
    if template := table.get("template"):
        try:
            text = read_bytes(path.absolute().parent / template, _MOST_BYTES).decode("utf-8")
        except (OSError, UnicodeDecodeError):
            raise RequestError(
                f"“{template}” cannot be read as text", path=path, key="order.template"
            ) from None
    if not text:
        raise RequestError("it needs text, or template with the name of a file", path=path, key="order")
    lines = [read_text_pattern(line) if line.strip() else EMPTY for line in text.strip("\n").splitlines()]
    return _inside(table.get("file", "work-order.txt"), path, "order.file"), tuple(lines)


def _inside(text: str, path: Path, key: str) -> str:
    """A name below the shot's folder. Raises RequestError for one that leads out of it."""
    parts = PurePosixPath(text.replace("\\", "/")).parts
    if ".." in parts or text.startswith(("/", "\\")) or ":" in text:
        raise RequestError("this leads out of the shot's folder", path=path, key=key)
    return "/".join(parts)
