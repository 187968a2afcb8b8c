"""Notices of single shots, and why something became none."""

from boxkite.core.notices.notice import Kind

SHORTENED = Kind("shortened", "shortened by {frames:frame}: the media ends")
UNNAMED_MARK = Kind("unnamed-mark", "its mark has no name")
HANDLES_SHORTENED = Kind(
    "handles-shortened", "handles shortened, the media ends: {ends:list} instead of {asked}"
)
PARTLY_OUTSIDE = Kind("partly-outside", "outside {range}: {frames} of its {of:frame}")
JOINED_WITH = Kind("joined-with", "joined with {name}")
SHORT = Kind("short", "{frames:frame}: shorter than a second")
OVERLAP = Kind("overlap", "it shares {frames:frame} with “{name}” ({origin})")
DECISION_NOT_APPLIED = Kind("decision-not-applied", "its colour decision ({decision}) is not applied")
LOOK_NOT_APPLIED = Kind("look-not-applied", "its look {look} is not applied")
GRADE_UNREADABLE = Kind("grade-unreadable", "the grade in {file} cannot be read, so it is not applied")
OTHER_GOES_FIRST = Kind("other-goes-first", "{file} is not applied: {first} goes first")
NO_CORRECTION = Kind("no-correction", "{file} is not applied: none of its corrections has this name")

DISABLED = Kind("disabled", "disabled")
TITLE = Kind("title", "title or generator")
BLACK = Kind("black", "black")
AUDIO = Kind("audio", "audio")
OUTSIDE_RANGE = Kind("outside-range", "outside {range}")
NOT_CHOSEN = Kind("not-chosen", "not {choice}")
EXCLUDED = Kind("excluded", "{choice}")
UNCHANGED = Kind("unchanged", "unchanged since {batch}")
NOT_MADE = Kind("not-made", "make is no")
UNFIT = Kind("unfit", "{preset}: {reason}")
