"""The columns a receiver wants, as a TOML file says them: patterns of tokens, and the receiver's limits."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import fields

from boxkite.core.errors import RequestError
from boxkite.core.files.toml import read_given_toml
from boxkite.core.naming.pattern import Pattern, check_tokens, plain_text, read_text_pattern
from boxkite.core.naming.values import Text, Value
from boxkite.core.suggest import did_you_mean

FOLDER = Path(__file__).with_name("mappings")
EMBEDDED = ("title", "description", "keywords", "creator", "rights", "location", "date", "scene")
"""What a column may be embedded as, by Dublin Core's names where it has one (ISO 15836-1)."""
_MOST_COLUMNS = 200


class ColumnRule(Struct, frozen=True):
    """One column: what fills it, and what its receiver takes."""

    name: str
    """Its head."""
    value: str = ""
    """A pattern of tokens."""
    values: tuple[str, ...] = ()
    """Instead of value: patterns whose results are one list, each once; commas and semicolons in them separate."""
    join: str = ", "
    """Between the entries of a list."""
    take: int | None = None
    """Only so many entries of the list, the first ones."""
    required: bool = False
    """Whether it must not be empty."""
    shortest: int | None = None
    longest: int | None = None
    """Limits of its characters."""
    fewest: int | None = None
    most: int | None = None
    """Limits of the entries of a list."""
    longest_entry: int | None = None
    """The most characters of one entry."""
    allowed: tuple[str, ...] = ()
    """The only values it may have; of a list, each entry."""
    forbidden: str = ""
    """Characters it may not hold."""
    unique: bool = False
    """Whether no two rows may have the same."""
    embed: str = ""
    """One of EMBEDDED: with that meaning it is written into the files, too, where that is asked for."""


class ColumnMapping(Struct, frozen=True):
    """The columns of one receiver."""

    path: Path
    columns: tuple[ColumnRule, ...]
    about: str = ""
    """Whom it is for, in a line."""
    patterns: dict[str, tuple[Pattern, ...]] = field(default_factory=dict)
    """By column, read."""


_KINDS: dict[str, type | tuple[type, ...]] = {
    "name": str, "value": str, "values": list, "join": str, "take": int, "required": bool, "shortest": int,
    "longest": int, "fewest": int, "most": int, "longest_entry": int, "allowed": list, "forbidden": str,
    "unique": bool, "embed": str,
}  # fmt: skip
_SAID = {str: "a text, in quotes", int: "a whole number", bool: "true or false", list: "a list of texts"}


def built_in_mappings() -> list[str]:
    """The names of the mappings that come with Box Kite."""
    return sorted(path.stem for path in FOLDER.glob("*.toml"))


def mapping_path(words: str | Path) -> Path:
    """The file that a path or a built-in name means. Raises RequestError."""
    path = Path(words)
    if path.suffix.lower() == ".toml":
        return path
    if str(words) in built_in_mappings():
        return FOLDER / f"{words}.toml"
    names = built_in_mappings()
    raise RequestError(
        f"there are no columns “{words}”",
        hint=did_you_mean(str(words), names) or f"give a .toml file, or one of {', '.join(names)}",
    )


def read_mapping(path: Path) -> ColumnMapping:
    """The columns in a TOML file. Raises RequestError with file and key, PatternError."""
    tables = read_given_toml(path)
    for key in tables:
        if key not in ("about", "column"):
            hint = did_you_mean(key, ["about", "column"]) or "keys: about, and a [[column]] for each column"
            raise RequestError(f"there is no key “{key}”", path=path, hint=hint)
    listed = tables.get("column")
    if not isinstance(listed, list) or not listed or len(listed) > _MOST_COLUMNS:
        raise RequestError(f"it has no [[column]], or more than {_MOST_COLUMNS}", path=path)
    columns = tuple(_column(one, f"column {number}", path) for number, one in enumerate(listed, start=1))
    names = [column.name.casefold() for column in columns]
    if twice := next((column.name for column in columns if names.count(column.name.casefold()) > 1), ""):
        raise RequestError(f"two columns are called “{twice}”", path=path)
    patterns = {
        column.name: tuple(read_text_pattern(text) for text in column.values or (column.value,))
        for column in columns
    }
    return ColumnMapping(path, columns, str(tables.get("about", "")), patterns)


def _column(table: Any, where: str, path: Path) -> ColumnRule:
    if not isinstance(table, Mapping):
        raise RequestError("a column is a table, as [[column]]", path=path, key=where)
    known = [one.name for one in fields(ColumnRule)]
    for key, value in table.items():
        if key not in known:
            hint = did_you_mean(key, known) or f"keys: {', '.join(known)}"
            raise RequestError(f"there is no key “{key}”", path=path, key=where, hint=hint)
        kind = _KINDS[key]
        is_right = isinstance(value, kind) and (kind is bool or not isinstance(value, bool))
        if kind is list:
            is_right = is_right and all(isinstance(one, str) for one in value)
        if not is_right or (kind is int and value < 0):
            raise RequestError(f"give {_SAID[kind]}", path=path, key=f"{where}.{key}")  # type: ignore[index]
    if not str(table.get("name", "")).strip():
        raise RequestError("it has no name", path=path, key=where)
    where = f"column “{table['name']}”"
    if bool(table.get("value")) == bool(table.get("values")):
        raise RequestError(
            "give either value, a pattern, or values, a list of patterns", path=path, key=where
        )
    of_lists = [key for key in ("join", "take", "fewest", "most", "longest_entry") if key in table]
    if of_lists and "values" not in table:
        raise RequestError(f"{of_lists[0]} goes with values", path=path, key=where)
    if table.get("embed", "") not in ("", *EMBEDDED):
        hint = did_you_mean(table["embed"], EMBEDDED) or f"one of {', '.join(EMBEDDED)}"
        raise RequestError(f"nothing is embedded as “{table['embed']}”", path=path, key=where, hint=hint)
    lists = {key: tuple(table[key]) for key in ("values", "allowed") if key in table}
    return ColumnRule(**{**table, **lists})


def check_mapping(mapping: ColumnMapping, known: set[str]) -> None:
    """Make sure that every token in it is known. Raises PatternError."""
    for patterns in mapping.patterns.values():
        for pattern in patterns:
            check_tokens(pattern, known)


def text_of(pattern: Pattern, values: Mapping[str, Value]) -> str:
    """The text a pattern makes of a file's values."""
    return plain_text(pattern, values).strip()


def cell_of(
    mapping: ColumnMapping, column: ColumnRule, values: Mapping[str, Value], keywords: tuple[str, ...]
) -> list[str]:
    """What a file has in a column: one text, or the entries of a list. keywords: all of the file's."""
    listed = {**{name: values[name] for name in values}, "keywords": Text(";".join(keywords))}
    patterns = mapping.patterns[column.name]
    if not column.values:
        return [plain_text(patterns[0], {**listed, "keywords": Text(", ".join(keywords))}).strip()]
    entries = [
        entry.strip()
        for pattern in patterns
        for entry in plain_text(pattern, listed).replace(";", ",").split(",")
        if entry.strip()
    ]
    once = list({entry.casefold(): entry for entry in reversed(entries)}.values())[::-1]
    return once[: column.take] if column.take is not None else once


def faults_of(column: ColumnRule, entries: list[str]) -> list[str]:
    """What the receiver would not take, each in a phrase."""
    text = column.join.join(entries) if column.values else entries[0]
    found = []
    if column.required and not text:
        found.append("it is empty")
    if column.longest is not None and len(text) > column.longest:
        found.append(f"{len(text)} characters, {column.longest} at most")
    if text and column.shortest is not None and len(text) < column.shortest:
        found.append(f"{len(text)} characters, {column.shortest} at least")
    if column.values:
        if column.most is not None and len(entries) > column.most:
            found.append(f"{len(entries)} entries, {column.most} at most")
        if column.fewest is not None and len(entries) < column.fewest:
            found.append(f"{len(entries)} entries, {column.fewest} at least")
        if column.longest_entry is not None:
            long = [entry for entry in entries if len(entry) > column.longest_entry]
            found += [
                f"“{entry}” has {len(entry)} characters, {column.longest_entry} at most" for entry in long
            ]
    if column.allowed:
        strange = [entry for entry in entries if entry and entry not in column.allowed]
        hints = [did_you_mean(entry, column.allowed) for entry in strange]
        found += [f"“{entry}” is not allowed" + (f"; {hint}" if hint else "")
                  for entry, hint in zip(strange, hints, strict=True)]  # fmt: skip
    bad = sorted({character for character in text if character in column.forbidden})
    if bad:
        found.append(f"it holds {' '.join(map(_shown, bad))}")
    return found


def _shown(character: str) -> str:
    return {"\n": "a line break", "\t": "a tab", " ": "a space"}.get(character, f"“{character}”")
