"""Notices of edits: what of their files was not understood, and what of them will not be in the shots."""

from boxkite.core.errors import setting
from boxkite.core.notices.notice import Kind

LINE_SKIPPED = Kind("line-skipped", "not understood and skipped: {text}")
MORE_LINES = Kind("more-lines", "more lines like these are not listed")
EVENT_SKIPPED = Kind("event-skipped", "event {event} is left out: {reason}")
EVENT_WITHOUT_TIMECODES = Kind("event-without-timecodes", "this event has no timecodes: left out")
EVENT_WITHOUT_LENGTH = Kind("event-without-length", "event {event} has no length: left out")
NOTE_WITHOUT_EVENT = Kind("note-without-event", "this note belongs to no event: {text}")
SPEED_LINE_SKIPPED = Kind("speed-line-skipped", "this speed line is not understood or has no event: {text}")
CHANNELS_WITHOUT_EVENT = Kind("channels-without-event", "this line of audio channels has no event")
DECISION_SKIPPED = Kind(
    "colour-decision-skipped", "this colour decision is not understood or has no event: skipped"
)
FRAME_CODE_MODE_UNKNOWN = Kind("frame-code-mode-unknown", "frame code mode “{mode}” is not known: skipped")
MARKER_SKIPPED = Kind("marker-skipped", "this marker is left out: {reason}")
MARKER_WITHOUT_EVENT = Kind("marker-without-event", "this marker belongs to no event: {text}")
MARKER_WITHOUT_LENGTH = Kind(
    "marker-without-length", "D:{length} is not a length in frames: the marker is a point"
)
NAMED_MARKER_SKIPPED = Kind("named-marker-skipped", "the marker “{name}” is left out: {reason}")
TRANSITION_TOO_LONG = Kind(
    "transition-too-long",
    "event {event}: its {transition} of {transition_frames:frame} is longer than its {frames:frame}",
)
SPEED_ASSUMED = Kind(
    "speed-assumed",
    "event {event} uses {source_frames:frame} of its source for {frames}: taken as a change of speed",
)
EVENTS_OVERLAP = Kind("events-overlap", "event {event} overlaps event {other} on {track} by {frames:frame}")
RATE_GUESSED = Kind(
    "rate-guessed",
    f"it does not state its frame rate: shown at {{rate}} fps, the slowest usual one that has all its frame numbers;"
    f" {setting('marks-rate')} sets it",
)
ADAPTER_SAYS = Kind("adapter-says", "its reader says: {text}")
NOT_A_TIMELINE = Kind("not-a-timeline", "“{name}” ({type}) is not a timeline: skipped")
TIMELINE_WITHOUT_RATE = Kind("timeline-without-rate", "timeline “{name}” has no clip with a rate: skipped")
TIMELINE_START_UNUSABLE = Kind(
    "timeline-start-unusable", "timeline “{name}”: its start is not a time: zero is assumed"
)
TIMELINE_RANGE_UNUSED = Kind(
    "timeline-range-unused",
    f"timeline “{{name}}” has its own range, which is not used: give {setting('in')} and {setting('out')}",
)
ITEM_SKIPPED = Kind("item-skipped", "“{name}” is left out: {reason}")
SPEED_NOT_LINEAR = Kind("speed-not-linear", "its change of speed is not linear and is ignored")
MARKER_WITHOUT_TIME = Kind("marker-without-time", "marker “{name}” has no time: left out")
MARKERS_UNUSED = Kind(
    "markers-unused", f"cut at its clips; to cut at its {{count:marker}}, give {setting('by')} markers"
)
BEGIN_TOGETHER = Kind(
    "begin-together", "{name} has no timecode: timeline and program are assumed to begin together"
)
TRANSITION_SHOWN = Kind("transition-shown", "its {end} {frames:frame} show a {transition}")
TRANSITION_NOT_MADE = Kind(
    "transition-not-made", "in the edit its {end} {frames:frame} are part of a {transition}"
)
HIDDEN = Kind("hidden", "hidden by {clip}: {frames} of its {of:frame}")
HIDDEN_IN_EDIT = Kind("hidden-in-edit", "in the edit hidden by {clip}: {frames} of its {of:frame}")
EFFECTS_NOT_MADE = Kind("effects-not-made", "effects of the edit that it does not have: {names:list}")
TITLES_NOT_MADE = Kind("titles-not-made", "titles above it that it does not have: {names:list}")
OWN_RATE = Kind("own-rate", "it keeps its own rate of {rate} fps, the edit runs at {edit_rate}")
OWN_SPEED = Kind("own-speed", "in the edit it runs at {percent:.4g} %, here at its own speed")
FREEZE = Kind("freeze", "the edit freezes this frame; here it is one frame")
RETIMED = Kind("retimed", "at the edit's speed, {percent:.4g} %, without audio")
TITLES_NOT_RENDERED = Kind("titles-not-rendered", "titles and generators that are not rendered: {names:list}")
EFFECTS_NOT_RENDERED = Kind("effects-not-rendered", "effects that are not rendered: {names:list} on {clip}")
AUDIO_EFFECTS_NOT_RENDERED = Kind(
    "audio-effects-not-rendered", "effects that are not rendered: {names:list} on the audio of {clip}"
)
RENDERED_AS_DISSOLVE = Kind(
    "rendered-as-dissolve", "transitions that are rendered as dissolves: {transition}"
)
SPED_AUDIO_LEFT_OUT = Kind(
    "sped-audio-left-out", "audio whose speed is changed is left out: {clip} on {track}"
)
NO_AUDIO_FOR_TRACK = Kind("no-audio-for-track", "{source} has no audio for {track}")
AUDIO_CLIPS_KEPT = Kind(
    "audio-clips-kept", "{count:audio clip} left as in the edit: the media are not among the footage"
)
USED_TIMES = Kind("used-times", "used {count} times, as {names:list}")
