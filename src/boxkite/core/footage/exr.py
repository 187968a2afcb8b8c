"""The layers and views of EXR images, read from the header (OpenEXR file layout)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.errors import FootageError, setting
from boxkite.core.footage.source import ImageLayer, ImageSettings, Source
from boxkite.core.suggest import did_you_mean

_MAGIC = 20000630
_TILED, _LONG_NAMES, _MULTI_PART = 0x200, 0x400, 0x1000
_MOST_HEADER_BYTES = 1 << 20
_COLOURS = (frozenset("RGB"), frozenset("Y"))


def layers_of(path: Path) -> tuple[ImageLayer, ...]:
    """The frames in colour or in luma that an EXR image holds, in the order it names them; none of any other file."""
    if path.suffix.lower() != ".exr" or not path.is_file():  # others are not opened for this
        return ()
    try:
        with path.open("rb") as file:
            magic, flags = struct.unpack("<II", file.read(8))
            if magic != _MAGIC:
                return ()
            header = _Header(file.read(_MOST_HEADER_BYTES))
        parts = enumerate(header.parts(several=bool(flags & _MULTI_PART)))
        return tuple(layer for number, part in parts for layer in _layers_in(number, part))
    except (OSError, ValueError, struct.error):  # it breaks off; what decodes it says the rest
        return ()


def with_layer(source: Source, images: ImageSettings) -> Source:
    """A source of EXR images that gives out the layer and view that are wanted; any other source as it is.

    Raises FootageError where its images hold none such.
    """
    return replace(source, layer=choose_layer(source.layers, images)) if source.layers else source


def choose_layer(layers: tuple[ImageLayer, ...], images: ImageSettings) -> ImageLayer | None:
    """The picture of the wanted layer and view; None where it is the plain one, or there are no layers.

    Of several those come first that bear no name separate.
    """
    fitting = [layer for layer in layers if layer.fits(images)]
    if layers and not fitting:
        words = (("layer", images.layer), ("view", images.view))
        asked = " ".join(f"{setting(word)} {value}" for word, value in words if value)
        known = [value for layer in layers for value in (layer.name, layer.view) if value]
        raise FootageError(
            f"{asked}: it holds {', '.join(layer.label for layer in layers)}",
            hint=did_you_mean(images.layer or images.view, known),
        )
    best = min(
        fitting, key=lambda layer: (not layer.is_plain, bool(layer.name), bool(layer.prefix)), default=None
    )
    return None if best is None or best.is_plain else best


def only_part(image: bytes, number: int) -> bytes:
    """An EXR image of several parts as one that holds a single part, its pixels as they are stored.

    The codec library looks for parts by the zeros between them, and finds others. What breaks off, or holds no picture
    there, makes a header that breaks off.
    """
    try:
        header = _Header(image, 8)
        parts = list(header.parts(several=True))
        chosen, ahead = parts[number], sum(_number(part["chunkCount"]) for part in parts[:number])
        is_tiled = {b"scanlineimage": False, b"tiledimage": True}[chosen["type"].rstrip(b"\0")]
        count = _number(chosen["chunkCount"])
        offsets = struct.unpack_from(f"<{count}Q", image, header.at + 8 * ahead)
        chunks = [_chunk(image, offset, is_tiled=is_tiled) for offset in offsets]
    except (ValueError, KeyError, IndexError, struct.error):
        return image[:8]
    start = (
        struct.pack("<II", _MAGIC, 2 | (_TILED if is_tiled else 0) | _LONG_NAMES) + header.raw[number] + b"\0"
    )
    places, at = [], len(start) + 8 * count
    for chunk in chunks:
        places.append(at)
        at += len(chunk)
    return start + struct.pack(f"<{count}Q", *places) + b"".join(chunks)


def _chunk(image: bytes, offset: int, *, is_tiled: bool) -> bytes:
    """A block of pixels without the number of its part: where it lies, how many bytes it has, these."""
    place = 16 if is_tiled else 4
    if offset > len(image):
        raise ValueError("a block lies beyond the file")
    (size,) = struct.unpack_from("<i", image, offset + 4 + place)
    end = offset + 4 + place + 4 + size
    if size < 0 or end > len(image):
        raise ValueError("a block goes beyond the file")
    return image[offset + 4 : end]


class _Header:
    """The attributes of an EXR file, read one after the other. raw: those of each part so far, as they are stored."""

    def __init__(self, data: bytes, at: int = 0) -> None:
        self._data = data
        self.at = at
        self.raw: list[bytes] = []

    def parts(self, *, several: bool) -> Iterator[dict[str, bytes]]:
        """The attributes of each part by name. Raises ValueError or struct.error where the header breaks off."""
        begins = self.at
        while attributes := dict(self._attributes()):
            self.raw.append(self._data[begins : self.at - 1])
            begins = self.at
            yield attributes
            if not several:
                return

    def _attributes(self) -> Iterator[tuple[str, bytes]]:
        while name := self._text():
            self._text()
            size = self._number()
            if not 0 <= size <= len(self._data) - self.at:
                raise ValueError("an attribute goes beyond the header")
            yield name, self._data[self.at : self.at + size]
            self.at += size

    def _text(self) -> str:
        end = self._data.index(b"\0", self.at)
        text = self._data[self.at : end].decode("utf-8", "replace")
        self.at = end + 1
        return text

    def _number(self) -> int:
        self.at += 4
        return _number(self._data[self.at - 4 : self.at])


def _layers_in(number: int, part: dict[str, bytes]) -> Iterator[ImageLayer]:
    """The layers of one part; channels are named layer.view.channel, each but the last where there is one."""
    views = _texts(part.get("multiView", b""))
    own_view = _text(part.get("view", b""))
    found: dict[str, set[str]] = {}
    for channel in _channels(part.get("channels", b"")):
        prefix, _, colour = channel.rpartition(".")
        found.setdefault(prefix, set()).add(colour)
    for prefix, colours in found.items():
        if not any(wanted <= colours for wanted in _COLOURS):
            continue
        words = prefix.split(".") if prefix else []
        view = own_view or (views[0] if views else "")
        if words and words[-1] in views:
            view = words.pop()
        name = ".".join(words)
        if not name and number:
            name = _part_name(part, view)
        yield ImageLayer(name, view, number, prefix)


def _part_name(part: dict[str, bytes], view: str) -> str:
    """The name of a later part, without its view, which stands in it as a rule (rgba.left)."""
    name = _text(part.get("name", b""))
    return name.removesuffix(f".{view}") if view else name


def _channels(data: bytes) -> Iterator[str]:
    at = 0
    while at < len(data) and data[at]:
        end = data.index(b"\0", at)
        yield data[at:end].decode("utf-8", "replace")
        at = end + 1 + 16


def _texts(data: bytes) -> list[str]:
    """A list of texts, each after its length."""
    found, at = [], 0
    while at + 4 <= len(data):
        (size,) = struct.unpack_from("<i", data, at)
        if size < 0:
            break
        found.append(_text(data[at + 4 : at + 4 + size]))
        at += 4 + size
    return found


def _text(data: bytes) -> str:
    return data.rstrip(b"\0").decode("utf-8", "replace")


def _number(data: bytes) -> int:
    (number,) = struct.unpack("<i", data)
    return int(number)
