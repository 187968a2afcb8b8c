"""Kinds of file that are no source, by their extension, and what to do with each instead."""

from __future__ import annotations

from pathlib import Path

from boxkite.core.errors import setting

_CONVERT = "convert it first with its maker's software, or cut the finished program instead"

CAMERA_RAW = {
    ".r3d": "a camera maker's raw (.r3d)",
    ".braw": "a camera maker's raw (.braw)",
    ".ari": "a camera maker's raw (.ari)",
    ".arx": "a camera maker's raw (.arx)",
    ".crm": "a camera maker's raw (.crm)",
    ".nev": "a camera maker's raw (.nev)",
    ".rmf": "a camera maker's raw (.rmf)",
    ".dng": "camera raw stills (.dng)",
    ".cine": "a high-speed camera's raw (.cine)",
    ".insv": "a panorama camera's raw (.insv)",
}
BESIDE_MEDIA = {
    ".edl": (
        "a marker list or edit (.edl)",
        f"give it to {setting('marks')}, or name it directly to cut what it holds",
    ),
    ".csv": ("a table (.csv)", f"ranges go to {setting('marks')}, metadata to {setting('metadata')}"),
    ".tsv": ("a table (.tsv)", f"ranges go to {setting('marks')}, metadata to {setting('metadata')}"),
    ".toml": ("a preset or job file (.toml)", ""),
    ".cube": ("a look file (.cube)", ""),
    ".cdl": ("a colour decision list (.cdl)", ""),
    ".cc": ("a colour decision list (.cc)", ""),
    ".ccc": ("a colour decision list (.ccc)", ""),
    ".otio": ("a timeline (.otio)", "name it directly to cut it"),
    ".otioz": ("a timeline (.otioz)", "name it directly to cut it"),
    ".xml": ("an XML file (.xml)", "if it is a timeline, name it directly to cut it"),
    ".fcpxml": ("a timeline (.fcpxml)", "name it directly to cut it"),
    ".aaf": ("a timeline (.aaf)", "name it directly to cut it"),
    ".ale": ("a log (.ale)", f"give it to {setting('metadata')}"),
    ".xmp": ("a metadata sidecar (.xmp)", ""),
    ".srt": ("subtitles (.srt)", f"give them to {setting('marks')} to cut at them"),
    ".vtt": ("subtitles (.vtt)", f"give them to {setting('marks')} to cut at them"),
    ".xlsx": ("a workbook (.xlsx)", f"ranges go to {setting('marks')}, metadata to {setting('metadata')}"),
    ".txt": ("a text file (.txt)", ""),
    ".md": ("a text file (.md)", ""),
    ".pdf": ("a document (.pdf)", ""),
}
_STILL_EXTENSIONS = "dpx tif tiff exr png jpg jpeg jp2 j2k bmp tga webp cin ppm pgm"
_MEDIA_EXTENSIONS = """mov mp4 m4v mxf mkv webm avi mts m2ts ts mpg mpeg m2v wmv flv 3gp dv gxf y4m
    wav aif aiff flac mp3 m4a aac ogg opus w64 caf"""
BARE_STREAMS = frozenset(
    {
        "mpegvideo",
        "h264",
        "hevc",
        "vvc",
        "m4v",
        "h263",
        "h261",
        "vc1",
        "cavsvideo",
        "avs2",
        "avs3",
        "obu",
        "dirac",
    }
)
"""A picture without a container, by the library's names: frames can only be counted. The times that reading gives them
are guessed, and so is the average rate; the header of the stream says the rate."""
STILL_SUFFIXES = frozenset([f".{extension}" for extension in _STILL_EXTENSIONS.split()])
MEDIA_SUFFIXES = STILL_SUFFIXES | frozenset(f".{extension}" for extension in _MEDIA_EXTENSIONS.split())
MARKS_TABLE = "marks.csv"
"""The table of marks kept beside footage; it is no riddle to be listed."""
REVIEW_PAGE = "review-page.json"
"""In a folder: it is a review page of ours, whose light files are no footage."""
JUNK_NAMES = frozenset({"thumbs.db", "desktop.ini"})


def explain_unreadable(path: Path) -> tuple[str, str]:
    """Why the codec library could not open a file and what to do, as (reason, hint), by its extension."""
    suffix = path.suffix.lower()
    if suffix in CAMERA_RAW:
        return f"{CAMERA_RAW[suffix]}, which the codec library does not decode", _CONVERT
    if suffix in BESIDE_MEDIA:
        kind, hint = BESIDE_MEDIA[suffix]
        return f"{kind}, not media", hint
    if suffix in MEDIA_SUFFIXES:
        return (
            f"it is named as media ({suffix}) but is broken or incomplete: the codec library finds no way in",
            "copy it again from where it came; it may have been still being written",
        )
    return "not a media file the codec library knows", ""


def is_junk(path: Path) -> bool:
    """Files that systems leave beside media; never worth a line."""
    return path.name.startswith(".") or path.name.lower() in JUNK_NAMES
