"""The tokens a pattern can use, and the pattern of each way to cut when none is given."""

from __future__ import annotations

TOKENS: dict[str, str] = {
    "marker": "name of the marker, range or chapter the shot was made from; unlike clip, it differs shot by shot",
    "clip": "name of the clip in the edit, else of the source, without its ending; of a sequence, without number",
    "file": "file name of the source, ending included; clip is the same without",
    "folder": "name of the folder the source lies in, not the one the file goes to",
    "reel": "reel of the source, from a table, a sidecar, the edit or the container",
    "scene": "scene, from a table, a sidecar or the edit",
    "shot": "shot as slated (3b), from a table or a sidecar; count is the number in the plan",
    "take": "take, from a table, a sidecar or the edit",
    "camera": "camera, from a table or a sidecar",
    "created": "when the source was made, as its container says; date is the day of the run",
    "keyword": "first keyword of the mark",
    "keywords": "all keywords of the mark, joined by dashes",
    "note": "note of the mark",
    "colour": "colour of the marker",
    "count": "place among the shots of this plan; forms say digits, start, step and where it starts again",
    "total": "how many shots this plan has",
    "timeline": "name of the timeline, where an edit is cut",
    "track": "track of the clip on the timeline, as V1",
    "event": "event number in an edit decision list, as written there; count is numbered here",
    "record": "first frame of the shot, as timecode of the timeline; in is the source's",
    "in": "first frame of the shot, as timecode of the source; record is the timeline's",
    "out": "first frame after the shot, as timecode of the source",
    "length": "length of the shot, as timecode or frames, handles included",
    "rate": "frame rate of the source, in fps",
    "resolution": "width and height of the picture in this file, after scaling",
    "codec": "picture codec of this file, not of the source",
    "preset": "name of the preset this file is made with",
    "version": "one above the highest that lies in the output folders, the same for the whole plan",
    "date": "date of the run; created is the day of shooting",
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
