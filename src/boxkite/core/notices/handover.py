"""Notices of finished files: what is wrong with one, and what could not be looked at."""

from boxkite.core.notices.notice import Kind

MISSING = Kind("file-missing", "it is not there")
TRUNCATED = Kind("file-truncated", "it is shorter than it was: {found} of {wanted} bytes are there")
OTHER_SIZE = Kind("file-other-size", "it has {found:byte}, {against} says {wanted}")
OTHER_BYTES = Kind("file-other-bytes", "its bytes have changed: {kind} is {found}, {against} says {wanted}")
NOT_READ = Kind("file-not-read", "it cannot be read: {reason}")
EXTRA = Kind("file-extra", "no record and no manifest knows it")
NOT_DECODED = Kind("file-not-decoded", "it cannot be decoded to its end: {reason}")
NOT_AS_PLANNED = Kind("file-not-as-planned", "{reason}")
OTHER_FRAMES = Kind("file-other-frames", "it holds {found:frame}, it should hold {wanted}")
OTHER_TIMES = Kind("file-other-times", "its frames are not shown at even times")
OTHER_AUDIO_LENGTH = Kind(
    "file-other-audio-length", "audio track {track} is {found:.3f} s long, it should be {wanted:.3f} s"
)
GONE_BLACK = Kind("file-black", "{frames:frame} from {timecode} on are black; those of the source are not")
GONE_FROZEN = Kind(
    "file-frozen", "{frames:frame} from {timecode} on show the same frame; those of the source move"
)
GONE_SILENT = Kind(
    "file-silent", "audio track {track} is silent for {seconds:.1f} s from {timecode} on; the source is not"
)
SWAPPED = Kind("file-swapped", "the frames at {first} and {second} are swapped")
MISPLACED = Kind(
    "file-misplaced", "{frames:frame} from {timecode} on show the source {away} than they should"
)
OTHER_PICTURES = Kind(
    "file-other-pictures", "{frames:frame} are not those of the source, the first at {timecode}"
)
AUDIO_MOVED = Kind(
    "file-audio-moved", "audio track {track} is {frames:frame} {direction} ({milliseconds} ms)"
)
POOR = Kind(
    "file-poor",
    "its frames are {found:.1f} dB close to the source; this preset makes them about {wanted:.1f} dB",
)
BLACK_ALONE = Kind(
    "file-black-alone", "{frames:frame} from {timecode} on are black; there is no source to compare"
)
FROZEN_ALONE = Kind(
    "file-frozen-alone",
    "{frames:frame} from {timecode} on show the same frame; there is no source to compare",
)
SILENT_ALONE = Kind(
    "file-silent-alone",
    "audio track {track} is silent for {seconds:.1f} s from {timecode} on; there is no source to compare",
)
NOT_COMPARED = Kind("file-not-compared", "it is not compared with its source: {reason}")
NO_RECORD = Kind(
    "file-no-record", "neither a record nor a manifest knows these files: each is decoded to its end instead"
)
REVIEW_UNKNOWN = Kind("review-unknown", "nothing was taken of “{name}”: {reason}")
REVIEW_SKIPPED = Kind("review-skipped", "not all was taken of “{name}”: {reason}")
MANIFEST_UNREADABLE = Kind("file-manifest-unreadable", "this manifest cannot be used: {reason}")
NAMES_OUTSIDE = Kind("file-names-outside", "line {line} names a file outside its folder: {name}")
CHAIN_BROKEN = Kind("file-chain-broken", "the chain of media hash lists is broken: {reason}")
RELINK_NO_FILE = Kind("relink-no-file", "“{name}” keeps its media: no file holds its frames")
RELINK_SHORT = Kind(
    "relink-short", "“{name}” keeps its media: its file is {frames:frame} short, transitions included"
)
RELINK_NO_ORIGINAL = Kind("relink-no-original", "“{name}” keeps its media: its original is not on record")
RELINK_PRESETS = Kind("relink-presets", "files of {presets:list}: the edit points at those of {taken}")
RELINK_FINISHED = Kind(
    "relink-finished", "{count:clip} shown as edited: their files have speed, effects and transitions in them"
)
RELINK_LOST = Kind("relink-lost", "{form} has no place for {what:list}")
NOTES_UNREADABLE = Kind("notes-unreadable", "its marks are left out: {reason}")
STILL_NOT_MADE = Kind("still-not-made", "no still of frame {frame}: it cannot be decoded")
