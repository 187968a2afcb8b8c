"""File names that common file systems (NTFS, APFS, HFS+, ext4, exFAT) all take, and when two are the same."""

from __future__ import annotations

import re
import unicodedata

MOST_BYTES = 255
"""The longest name of one file or folder, in bytes of UTF-8."""

_RESERVED = frozenset(
    ["con", "prn", "aux", "nul", "conin$", "conout$"]
    + [f"{device}{digit}" for device in ("com", "lpt") for digit in "0123456789¹²³"]
)
_BECOMES_DASH = str.maketrans(dict.fromkeys("/\\:|", "-"))
_INVISIBLE = "\u200b\u200e\u200f\u202a-\u202e\u2060-\u2064\u2066-\u2069\ufeff"
_LEFT_OUT = re.compile(f'[*?"<>\x00-\x08\x0e-\x1f\x7f-\x9f{_INVISIBLE}\ud800-\udfff]')
_SPACES = re.compile(r"\s+")
_PLAIN = re.compile(r"[\w.,()+&=# -]*", re.ASCII)
"""Names that are what they should be already, as nearly all are, but for spaces in a row."""
_NO_WORD = re.compile(r"[^\w]+|_+")
UNSAFE_SIGNS = frozenset('\\:*?"<>|')


def clean_value(text: str) -> str:
    """A token's value with every character taken out that a file name cannot hold.

    Separators and colons become dashes, line ends and runs of space one space; quotes, wildcards, control
    and invisible direction characters go. The result is NFC and never makes a folder.
    """
    if (text.isascii() and text.isalnum()) or (_PLAIN.fullmatch(text) and "  " not in text):
        return text
    text = unicodedata.normalize("NFC", text)
    return _LEFT_OUT.sub("", _SPACES.sub(" ", text.translate(_BECOMES_DASH)))


def safe_component(text: str) -> str:
    """One file or folder name: NFC, no dots or spaces at its ends, no device name; may be empty.

    A device name that Windows reserves ("con", "lpt1.x") gets an underscore after it.
    """
    text = (text if text.isascii() else unicodedata.normalize("NFC", text)).strip(". ")
    first, dot, rest = text.partition(".")
    if first.rstrip(" ").casefold() in _RESERVED:
        text = f"{first.rstrip(' ')}_{dot}{rest}"
    return text


def is_surely_short(name: str) -> bool:
    """Whether no component of a name can be longer than file systems take, whatever its characters."""
    return 4 * len(name) <= MOST_BYTES


def byte_length(name: str) -> int:
    """Bytes of the name in UTF-8."""
    return len(name.encode("utf-8", errors="surrogatepass"))


def clash_key(path: str) -> str:
    """Equal for two paths that some common file system takes for the same: case and composition folded."""
    if path.isascii():
        return path.lower()
    return unicodedata.normalize("NFD", unicodedata.normalize("NFD", path).casefold())


def slug(text: str) -> str:
    """Lower-case ASCII letters and digits with single dashes between; other scripts keep their letters."""
    if not text.isascii():
        decomposed = unicodedata.normalize("NFKD", text)
        text = unicodedata.normalize(
            "NFC", "".join(char for char in decomposed if not unicodedata.combining(char))
        )
    return _NO_WORD.sub("-", text.lower()).strip("-")
