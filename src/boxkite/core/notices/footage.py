"""Notices of sources: what their files say, and what is wrong with them."""

from boxkite.core.errors import setting
from boxkite.core.notices.notice import Kind

NO_RATE = Kind("no-rate", "the file states no frame rate: 25 fps is assumed")
IMAGES_WITHOUT_RATE = Kind(
    "images-without-rate",
    f"images carry no frame rate: {{rate}} fps is assumed, unless {setting('images-rate')} says another",
)
IMAGES_MISSING = Kind("images-missing", "{count:frame} missing: {numbers:list}")
IMAGES_TINY = Kind("images-tiny", "{count:image} far too small, and may be broken")
START_UNUSABLE = Kind("start-timecode-unusable", "its start timecode cannot be used: {reason}")
BREAKS_OFF = Kind("breaks-off", "the file breaks off: {lost} of its {frames:frame} would lie after its end")
HEADER_LONGER = Kind(
    "header-longer", "its header says {header_seconds:.1f} s, its frames end after {seconds:.1f} s"
)
BEFORE_KEYFRAME = Kind(
    "before-keyframe", "{frames:frame} before the first keyframe cannot be decoded and are left out"
)
VARIABLE_RATE = Kind(
    "variable-rate", "variable frame rate: {stored} stored frames laid on {frames:frame} at {rate} fps"
)
TIMES_RESTART = Kind(
    "times-restart",
    "the times in it start over {times:time}, as in recordings joined end to end: its {frames:frame} are counted,"
    " and its audio may not fit",
)
LONG_HOLD = Kind("long-hold", "one frame lasts {hours:.1f} hours: its times may be damaged")
FRAMES_MISSING = Kind(
    "frames-missing", "{frames:frame} missing, from frame {first} on: they show the frame before them"
)
FRAMES_DAMAGED = Kind(
    "frames-damaged", "{frames:frame} damaged, from frame {first} on: shown as far as they decode"
)
FRAMES_FLAGGED = Kind(
    "frames-flagged",
    "the decoder has doubts about the first {frames:frame} of the file: shown as they decode",
)
FILE_SKIPPED = Kind("file-skipped", "{reason}: skipped")
IMAGE_SKIPPED = Kind(
    "single-image-skipped", "a single image: skipped; to make a file of it, name it directly"
)
NO_PICTURE_SKIPPED = Kind("no-picture-skipped", "there is no picture in it: skipped")
MEDIA_UNREADABLE = Kind(
    "media-unreadable", "{count:file} among the media cannot be read: boxkite inspect lists them"
)
NO_TIMECODE_FOR_AUDIO = Kind(
    "no-timecode-for-audio", "{source} has no timecode, so it keeps the camera's audio"
)
NO_RECORDING = Kind("no-recording", "no recorded audio covers {source}: it keeps the camera's")
RECORDING = Kind("recording", "{source} gets the audio of {recording}")
RECORDING_PARTLY = Kind(
    "recording-partly",
    "{source} gets the audio of {recording}, which covers {covered:.2f} of its {seconds:.2f} s: the rest is silent",
)
