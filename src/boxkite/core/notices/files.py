"""Notices of planned and made files."""

from boxkite.core.notices.notice import Kind

UNMARKED = Kind("unmarked", "without the watermark: {presets:list}")
AUDIO_LEFT_OUT = Kind("audio-left-out", "its audio is left out")
STREAM_LEFT_OUT = Kind("stream-left-out", "{stream} left out")
ALPHA_LEFT_OUT = Kind("alpha-left-out", "its transparency is left out")
SILENT_TRACK_ADDED = Kind("silent-track-added", "there is no audio in it: it gets a silent track")
TRACKS_UNDECODABLE = Kind("tracks-undecodable", "{count:audio track} left out: they cannot be decoded")
FIRST_TRACK_ONLY = Kind("first-track-only", "the first of {count} audio tracks is used")
TRACKS_OF_OTHER_RATE = Kind("tracks-of-other-rate", "{count:audio track} of another sample rate left out")
CHANNELS_UNNAMED = Kind(
    "channels-unnamed", "the file does not say what its {channels} channels are: all are mixed at equal power"
)
LAYOUT_MIXED = Kind("layout-mixed", "its {layout} audio is mixed to {held}: {codec} does not take it")
CHANNELS_MIXED = Kind(
    "channels-mixed", "its {channels} channels are mixed to stereo: {codec} does not take so many"
)
COPY_MOVES_ENDS = Kind("copy-moves-ends", "copied from keyframe to keyframe: {moves:list}")
ENCODED_NOT_COPIED = Kind("encoded-not-copied", "encoded, not copied: {reason}")
NOT_IN_CHUNKS = Kind("not-in-chunks", "encoded in one piece, not in chunks: {reason}")
AUDIO_AT_PACKETS = Kind(
    "audio-at-packets", "its audio is cut between packets, up to {ms} ms off: its container has no edit lists"
)
GLYPHS_MISSING = Kind(
    "glyphs-missing", "missing from its burn-in, because the font has no glyph for them: {characters}"
)
SPACE_SHORT = Kind("space-short", "about {needed_mb} MB are needed, {free_mb} MB are free")
NOTHING_CHANGED = Kind("nothing-changed", "nothing is new or changed since {batch}")
NO_PROBE = Kind("no-probe", "no probe could be encoded; its sizes are as uncertain as before")
SILENCE_FILLED = Kind("silence-filled", "{samples:sample} of silence where its audio is missing")
DECODER_FELL_BACK = Kind("decoder-fell-back", "no {kind} decoder works here: the CPU decoded it")
ENCODER_FELL_BACK = Kind("encoder-fell-back", "no {kind} encoder of {codec} works here: the CPU made it")
ENDS_EARLY = Kind("ends-early", "{frames:frame} missing at its end, where the source breaks off")
TOO_SILENT = Kind("too-silent", "{track} is silent or too short to measure: its loudness is unchanged")
QUIETER = Kind(
    "quieter",
    "{track} ends at {lufs:.1f} LUFS, not {wanted:g}: any louder, and its true peak would pass {peak:g} dBTP",
)
