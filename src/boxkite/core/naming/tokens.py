"""The tokens a pattern can use, and the pattern of each way to cut when none is given."""

from __future__ import annotations

TOKENS: dict[str, str] = {
    "marker": "name of the marker, range or chapter the shot was made from",
    "clip": "name of the clip in the edit, else of the source, without its ending; of a sequence, without number",
    "file": "file name of the source, ending included",
    "folder": "name of the folder the source lies in",
    "reel": "reel of the source, from a table, a sidecar, the edit or the container",
    "scene": "scene, from a table, a sidecar or the edit",
    "shot": "shot as slated, from a table or a sidecar",
    "take": "take, from a table, a sidecar or the edit",
    "camera": "camera, from a table or a sidecar",
    "created": "date the source was made, as its container says",
    "keyword": "first keyword of the mark",
    "keywords": "all keywords of the mark, joined by dashes",
    "note": "note of the mark",
    "colour": "colour of the marker",
    "count": "position among the shots of this plan; the digits of its form say width and start",
    "total": "how many shots this plan has",
    "timeline": "name of the timeline, where an edit is cut",
    "track": "track of the clip on the timeline, as V1",
    "event": "event number of the clip in an edit decision list",
    "record": "first frame of the shot, as timecode of the timeline",
    "in": "first frame of the shot, as timecode of the source",
    "out": "first frame after the shot, as timecode of the source",
    "length": "length of the shot, as timecode or frames",
    "rate": "frames a second of the source",
    "resolution": "width and height of the picture in this file",
    "codec": "picture codec of this file",
    "preset": "name of the preset this file is made with",
    "date": "date of the run",
    "time": "time of day of the run",
    "user": "who runs it",
}

TABLE_TOKENS = ("scene", "shot", "take", "camera", "reel", "keyword", "keywords", "note")
"""Tokens a table of facts can fill, by a column of the same name."""

DEFAULT_PATTERNS: dict[str, str] = {
    "markers": "@(marker|in)",
    "ranges": "@clip_@(marker|in)",
    "cuts": "@clip_@record",
    "files": "@clip",
    "timelines": "@timeline",
    "detected-cuts": "@clip_@(marker|in)",
}
