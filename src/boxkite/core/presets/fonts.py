"""The fonts that burn-ins are set in, and what they cannot show."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from boxkite.core.errors import PresetError
from boxkite.core.files.reading import require_file

_FONTS = Path(__file__).parent / "font_files"
TEXT_FONT = _FONTS / "DejaVuSans-Bold.ttf"
LIVE_FONT = _FONTS / "DejaVuSansMono-Bold.ttf"


@lru_cache(maxsize=1024)
def missing_glyphs(text: str, font: Path | None = None) -> str:
    """Those characters of a text that its font cannot show. Raises PresetError for what is no font."""
    if not text and not font:
        return ""
    from PIL import ImageFont

    try:
        if font:
            require_file(font)
        drawn = ImageFont.truetype(str(font or TEXT_FONT), 24)
    except OSError as error:
        raise PresetError(f"the font cannot be read: {error}", path=font) from None
    nothing = bytes(drawn.getmask("\uffff"))
    return "".join(
        character
        for character in dict.fromkeys(text)
        if not character.isspace() and character.isprintable() and bytes(drawn.getmask(character)) == nothing
    )
