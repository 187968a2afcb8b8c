"""Why a shot cannot be cut without encoding all of it."""

from __future__ import annotations

from enum import StrEnum


class Obstacle(StrEnum):
    """What stands in the way, as a sentence about the source."""

    CODEC = "its codec can only be copied from keyframe to keyframe"
    NO_KEYFRAME = "there is no keyframe in it that decoding can start at"
    NO_DECODING_START = "there is no keyframe before it that decoding can start at"
    UNREADABLE = "its stream does not follow the standard"
    INTERLACED = "it is interlaced"
    PROFILE = "its profile cannot be encoded here"
    SIZE = "its frame is cropped or padded in an unusual way"
    ORDER = "it counts the order of its frames in an unusual way"
    SETS = "its settings change midway"
    PLANES = "its colour planes are coded separately"
    TOOLS = "it is coded with tools that the encoder here does not have"
    LISTS = "it weighs frequencies by lists that cannot be encoded here"
    SLICES = "its frames are divided in an unusual way"
    GAPS = "it skips frame numbers"
    DROPS = "it tells decoders to drop frames"
    LEADING = "frames are shown before the keyframe they follow"
    HIDDEN = "an edit list hides frames of it"
    TIMES = "two of its frames carry the same time, or none"
    NEIGHBOURS = "two keyframes that would meet carry the same number"
    ENCODER = "the encoder wrote what cannot be joined to it"
    DIFFERS = "decoding it again showed other frames"
    RATE = "its frame rate varies"
    COUNTED = "its file counts its frames instead of timing them"


class NotSpliceableError(Exception):
    """A shot cannot be spliced; all of it is encoded instead."""

    def __init__(self, obstacle: Obstacle) -> None:
        super().__init__(str(obstacle))
        self.obstacle = obstacle
