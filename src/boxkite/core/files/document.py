"""Values as documents: what is kept in a journal or sent to a worker is data that is checked, never code.

A document is JSON. It names its kind and version, and holds values of the program's own structs, or dataclasses as
presets are, by the names of their fields. Reading one checks every field against the type that the class declares,
refuses what is unknown or missing, and makes nothing but the types that are declared. Values that several others
share, as the source of many shots, stand in it once and are the same object again when it is read.
"""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from enum import Enum
from fractions import Fraction
from functools import lru_cache
from pathlib import Path, PureWindowsPath
from types import NoneType, UnionType
from typing import Any, Literal, NamedTuple, TypeVar, Union, get_args, get_origin, get_type_hints

from msgspec import NODEFAULT, Struct, structs

Kept = TypeVar("Kept")
_Coder = Callable[[Any, Any], Any]
"""Turns a value, with what is known of the document so far, into another."""
_MOST_DEPTH = 60
_MISSING = object()
_ARRAYS = ("int64", "bool", "float64")


_to_json = json.JSONEncoder(separators=(",", ":"), allow_nan=False).encode


class DocumentError(ValueError):
    """The content is no such document."""


class _Writing:
    """The values that several others share, in the order in which they are needed."""

    def __init__(self, shared: Sequence[type]) -> None:
        self.shared = frozenset(shared)
        self.items: list[list[Any]] = []
        self._places: dict[int, int] = {}
        self._alive: list[Any] = []

    def place_of(self, value: Any, encode: _Coder) -> int:
        """Where a shared value stands among the others."""
        if id(value) not in self._places:
            plain = encode(value, self)
            self._places[id(value)] = len(self.items)
            self._alive.append(value)
            self.items.append([type(value).__name__, plain])
        return self._places[id(value)]


class _Reading:
    """The shared values read so far, and how paths are mapped to this machine."""

    def __init__(self, shared: Sequence[type], path_from: Callable[[str], Path]) -> None:
        self.shared = frozenset(shared)
        self.items: list[Any] = []
        self.path_from = path_from


def write_document(value: Any, kind: type[Any], version: int, shared: Sequence[type] = ()) -> bytes:
    """A value of a struct as bytes. shared: structs whose values may be used by several others."""
    writing = _Writing(shared)
    plain = _encoder(kind)(value, writing)
    document = {"kind": kind.__name__, "version": version, "shared": writing.items, "value": plain}
    return _to_json(document).encode("ascii")


def read_document(
    content: bytes,
    kind: type[Kept],
    version: int,
    shared: Sequence[type] = (),
    path_from: Callable[[str], Path] = Path,
) -> Kept:
    """The value in some bytes. path_from: how a path is called here. Raises DocumentError, whatever the bytes are."""
    try:
        document = json.loads(content)
        if not isinstance(document, dict) or document.keys() != {"kind", "version", "shared", "value"}:
            raise DocumentError("it is not such a document")
        if document["kind"] != kind.__name__:
            raise DocumentError(f"it holds {document['kind']!r}, not {kind.__name__}")
        if document["version"] != version:
            raise DocumentError(f"it is of version {document['version']!r}, this program reads {version}")
        reading = _Reading(shared, path_from)
        by_name = {one.__name__: one for one in shared}
        for name, plain in _of(list, document["shared"]):
            reading.items.append(_decoder(by_name[name])(plain, reading))
        found: Kept = _decoder(kind)(document["value"], reading)
        return found
    except DocumentError:
        raise
    except (
        ValueError,
        TypeError,
        KeyError,
        IndexError,
        RecursionError,
        ArithmeticError,
        AttributeError,
    ) as error:
        raise DocumentError(f"it does not hold together: {type(error).__name__}: {error}") from None
    except Exception as error:  # a value that its own class refuses
        raise DocumentError(str(error)) from None


def _of(kind: type[Kept], value: Any) -> Kept:
    if type(value) is not kind:
        raise DocumentError(f"there is {value!r:.60} where {kind.__name__} is expected")
    return value


def _is_enum(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, Enum)


def _has_members(kind: Any) -> bool:
    return isinstance(kind, type) and (issubclass(kind, Struct) or dataclasses.is_dataclass(kind))


def _unchanged(value: Any, state: Any) -> Any:
    return value


def _encoder(kind: Any) -> _Coder:
    """The function that turns a value of a type into plain values."""
    if kind in _ENCODERS:
        return _ENCODERS[kind]
    origin, inner = get_origin(kind), get_args(kind)
    if origin is Literal:
        made: _Coder = _unchanged
    elif origin in (Union, UnionType):
        made = _union_encoder(inner)
    elif origin is tuple and inner[-1] is not Ellipsis:
        coders = [_encoder(one) for one in inner]
        made = lambda value, state: [code(one, state) for code, one in zip(coders, value, strict=True)]  # noqa: E731
    elif origin in (tuple, list, Sequence):
        each = _encoder(inner[0])
        made = lambda value, state: [each(one, state) for one in value]  # noqa: E731
    elif origin in (dict, Mapping):
        of_value = _encoder(inner[1])
        made = lambda value, state: {_of(str, key): of_value(one, state) for key, one in value.items()}  # noqa: E731
    elif _is_enum(kind):
        made = lambda value, state: value.value  # noqa: E731
    elif _has_members(kind):
        return _members_encoder(kind)
    else:
        raise TypeError(f"documents hold no {kind}")
    _ENCODERS[kind] = made
    return made


def _members_encoder(kind: Any) -> _Coder:
    members: list[tuple[str, _Coder, Any]] = []

    def encode(value: Any, writing: _Writing) -> Any:
        plain = {}
        for name, code, default in members:
            own = getattr(value, name)
            if type(own) is not type(default) or own != default:
                plain[name] = code(own, writing)
        return plain

    def shared(value: Any, writing: _Writing) -> Any:
        return writing.place_of(value, encode) if kind in writing.shared else encode(value, writing)

    _ENCODERS[kind] = shared  # before those of its fields, among which it may be
    hints = get_type_hints(kind)
    members += [(one.name, _encoder(hints[one.name]), one.value) for one in _members_of(kind)]
    return shared


class _Member(NamedTuple):
    """A field of a class whose values documents hold."""

    name: str
    value: Any
    """Where a document does not say; MISSING where it always says."""


def _members_of(kind: Any) -> list[_Member]:
    """The fields of a struct, or of a dataclass, as presets are."""
    declared: Sequence[Any] = structs.fields(kind) if issubclass(kind, Struct) else dataclasses.fields(kind)
    found = []
    for one in declared:
        default = one.default if _is_unsaid(one.default_factory) else one.default_factory()
        found.append(_Member(one.name, _MISSING if _is_unsaid(default) else default))
    return found


def _is_unsaid(default: Any) -> bool:
    return default is NODEFAULT or default is dataclasses.MISSING


def _default_text(one: _Member) -> str:
    """A default as text; of one that is made again each time (as the time of day) only that there is one."""
    return "" if one.value is _MISSING else f" = {'…' if isinstance(one.value, datetime) else one.value}"


def _union_encoder(kinds: tuple[Any, ...]) -> _Coder:
    """Of a union: None as it is, the others with the name of their type where there are several."""
    others = [kind for kind in kinds if kind is not NoneType]
    if len(others) == 1:
        code = _encoder(others[0])
        return lambda value, writing: None if value is None else code(value, writing)
    by_type = {kind: _encoder(kind) for kind in others}

    def tagged(value: Any, writing: _Writing) -> Any:
        return None if value is None else [type(value).__name__, by_type[type(value)](value, writing)]

    return tagged


def _decoder(kind: Any) -> _Coder:
    """The function that turns plain values into a value of a type, or raises."""
    if kind in _DECODERS:
        return _DECODERS[kind]
    origin, inner = get_origin(kind), get_args(kind)
    if origin is Literal:
        made: _Coder = lambda plain, state: inner[inner.index(plain)]  # noqa: E731
    elif origin in (Union, UnionType):
        made = _union_decoder(inner)
    elif origin is tuple:
        made = _tuple_decoder(inner)
    elif origin in (list, Sequence):
        each = _decoder(inner[0])
        made = lambda plain, state: [each(one, state) for one in _of(list, plain)]  # noqa: E731
    elif origin in (dict, Mapping):
        of_value = _decoder(inner[1])
        made = lambda plain, state: {key: of_value(one, state) for key, one in _of(dict, plain).items()}  # noqa: E731
    elif _is_enum(kind):
        made = lambda plain, state: kind(plain)  # noqa: E731
    elif _has_members(kind):
        return _members_decoder(kind)
    else:
        raise TypeError(f"documents hold no {kind}")
    _DECODERS[kind] = made
    return made


def _tuple_decoder(inner: tuple[Any, ...]) -> _Coder:
    if inner[-1] is Ellipsis:
        each = _decoder(inner[0])
        return lambda plain, state: tuple([each(one, state) for one in _of(list, plain)])
    coders = [_decoder(kind) for kind in inner]
    return lambda plain, state: tuple(
        [code(one, state) for code, one in zip(coders, _of(list, plain), strict=True)]
    )


def _members_decoder(kind: Any) -> _Coder:
    own = _members_of(kind)
    needed = {one.name for one in own if one.value is _MISSING}
    members: dict[str, _Coder] = {}

    def decode(plain: Any, reading: _Reading) -> Any:
        if type(plain) is int and kind in reading.shared:
            if not 0 <= plain < len(reading.items) or type(reading.items[plain]) is not kind:
                raise DocumentError(f"{kind.__name__} {plain} is not in it")
            return reading.items[plain]
        values = _of(dict, plain)
        if unknown := values.keys() - members.keys():
            raise DocumentError(f"{kind.__name__} has no “{min(unknown)}”")
        if len(values) < len(members) and (missing := needed - values.keys()):
            raise DocumentError(f"“{min(missing)}” of {kind.__name__} is missing")
        return kind(**{name: members[name](value, reading) for name, value in values.items()})

    _DECODERS[kind] = decode  # before those of its fields, among which it may be
    hints = get_type_hints(kind)
    members |= {one.name: _decoder(hints[one.name]) for one in own}
    return decode


def _union_decoder(kinds: tuple[Any, ...]) -> _Coder:
    others = [kind for kind in kinds if kind is not NoneType]
    may_be_none = len(others) < len(kinds)
    by_name = {kind.__name__: _decoder(kind) for kind in others} if len(others) > 1 else {}
    only = _decoder(others[0])

    def decode(plain: Any, reading: _Reading) -> Any:
        if plain is None and may_be_none:
            return None
        if not by_name:
            return only(plain, reading)
        name, value = _of(list, plain)
        return by_name[name](value, reading)

    return decode


def _fraction(plain: Any, reading: _Reading) -> Fraction:
    above, slash, below = _of(str, plain).partition("/")
    if not slash or len(plain) > 200:
        raise DocumentError(f"“{plain:.60}” is not a fraction")
    return _ratio(int(above), int(below))


@lru_cache(maxsize=1000)
def _ratio(above: int, below: int) -> Fraction:
    return Fraction(above, below)


def _path_text(plain: Any) -> str:
    text = _of(str, plain)
    if "\0" in text:
        raise DocumentError("a path holds a zero byte")
    return text


def _plain(value: Any, depth: int = 0) -> Any:
    """A value that is plain throughout, as JSON and TOML have them."""
    if depth > _MOST_DEPTH:
        raise DocumentError("it is nested too deeply")
    if isinstance(value, dict):
        return {_of(str, key): _plain(inner, depth + 1) for key, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner, depth + 1) for inner in value]
    if value is None or isinstance(value, str | int | float | bool):
        return value
    raise DocumentError(f"there is {value!r:.60}, which is not a plain value")


def _exactly(kind: type[Any]) -> _Coder:
    def decode(plain: Any, state: Any) -> Any:
        return plain if type(plain) is kind else _of(kind, plain)  # in line, as most of a document are these

    return decode


def _absolute(path: Path) -> str:
    """A path for whoever reads it, who may be in another folder; one of another kind of system stays as it is."""
    text = str(path)
    return text if path.is_absolute() or PureWindowsPath(text).is_absolute() else str(path.absolute())


_ENCODERS: dict[Any, _Coder] = {
    **dict.fromkeys((str, int, bool, float, NoneType, Any), _unchanged),
    Path: lambda value, state: _absolute(value),
    Fraction: lambda value, state: f"{value.numerator}/{value.denominator}",
    datetime: lambda value, state: value.isoformat(),
}
_DECODERS: dict[Any, _Coder] = {
    **{kind: _exactly(kind) for kind in (str, int, bool, NoneType)},
    float: lambda plain, state: float(plain) if type(plain) is int else _of(float, plain),
    Any: lambda plain, state: _plain(plain),
    Path: lambda plain, state: state.path_from(_path_text(plain)),
    Fraction: _fraction,
    datetime: lambda plain, state: datetime.fromisoformat(_of(str, plain)),
}


def with_arrays() -> None:
    """Let documents hold arrays of NumPy; done by whoever has such values, as loading it takes time."""
    import base64

    import numpy as np

    def decode(plain: Any, state: Any) -> Any:
        name, content = _of(list, plain)
        if name not in _ARRAYS:
            raise DocumentError(f"there is no array of {name!r:.40}")
        return np.frombuffer(base64.b64decode(_of(str, content), validate=True), dtype=name)

    _ENCODERS[np.ndarray] = lambda value, state: [
        value.dtype.name,
        base64.b64encode(value.tobytes()).decode(),
    ]
    _DECODERS[np.ndarray] = decode


def shape_of(kind: Any) -> str:
    """The types and defaults that a document of a kind is made of, as text: another shape needs another version."""
    lines: dict[str, str] = {}

    def walk(one: Any) -> None:
        if _has_members(one) and one.__name__ not in lines:
            hints = get_type_hints(one)
            own = _members_of(one)
            parts = [f"{field.name}: {hints[field.name]}{_default_text(field)}" for field in own]
            lines[one.__name__] = f"{one.__name__}({', '.join(parts)})"
            for field in own:
                walk(hints[field.name])
        elif isinstance(one, type) and issubclass(one, Enum):
            lines[one.__name__] = f"{one.__name__}{[member.value for member in one]}"
        for inner in get_args(one):
            walk(inner)

    walk(kind)
    return "\n".join(lines[name] for name in sorted(lines))
