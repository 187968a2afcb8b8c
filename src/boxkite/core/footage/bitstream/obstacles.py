"""Why a shot cannot be cut without encoding all of it."""

from __future__ import annotations

from enum import StrEnum


class Obstacle(StrEnum):
    """What stands in the way, as it is said after “because”."""

    CODEC = "pictures of its codec are not joined"
    CONTAINER = "its container cannot hold such a cut"
    NO_KEYFRAME = "no keyframe lies in it that a decoder can begin at"
    NO_DECODING_START = "no keyframe lies before it that a decoder can begin at"
    UNREADABLE = "its stream is not written as the standard says"
    INTERLACED = "it is interlaced"
    PROFILE = "its profile is not one that can be encoded here"
    SIZE = "its picture is cropped or padded in an uncommon way"
    ORDER = "it counts the order of its pictures in an uncommon way"
    SETS = "its settings change midway"
    PLANES = "its colour planes are coded apart"
    SLICES = "its pictures are cut up in an uncommon way"
    GAPS = "it leaves out numbers of pictures"
    DROPS = "it tells decoders to drop pictures"
    LEADING = "pictures are shown before the keyframe they follow"
    HIDDEN = "an edit list hides frames of it"
    TIMES = "two of its frames carry the same time, or none"
    NEIGHBOURS = "two keyframes that would meet carry the same number"
    ENCODER = "the encoder wrote what cannot be joined"
    DIFFERS = "decoding it again showed other pictures"
    RATE = "its frame rate varies"
    SHORT = "nothing would be left to copy"
    COUNTED = "its file counts its frames instead of timing them"


class NotSpliceableError(Exception):
    """A shot cannot be spliced; all of it is encoded instead."""

    def __init__(self, obstacle: Obstacle) -> None:
        super().__init__(str(obstacle))
        self.obstacle = obstacle
