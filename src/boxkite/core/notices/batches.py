"""Notices of batches as they run and are resumed."""

from boxkite.core.errors import setting
from boxkite.core.notices.notice import Kind

NOT_RECORDED = Kind("not-recorded", "{reason}; this batch is made without a record")
RECORD_HAS_GAPS = Kind("record-has-gaps", "{reason}; the record of this batch has gaps")
FEWER_WORKERS = Kind("fewer-workers", "{workers:shot} at a time instead of {wanted}: memory is short")
CLUSTER = Kind("cluster", "cluster: {workers:worker} on {machines:list}, {shots:shot} at a time")
REPLACEMENT_FINISHED = Kind("replacement-finished", "a replacement that was interrupted was finished")
REPLACEMENT_UNFINISHED = Kind(
    "replacement-unfinished", "a replacement that was interrupted cannot be finished: {reason}"
)
KEPT_BESIDE = Kind("kept-beside", "another file had taken the name of {name}; this one was kept")
VERIFIED_BUT_GONE = Kind(
    "verified-but-gone",
    f"{{count:file}} verified, and no longer there: {{names:list}}; {setting('missing')} makes them again",
)
OTHER_VERSION = Kind(
    "other-version",
    "it was planned by Box Kite {planned}, this is {now}: new files may differ from existing ones",
)
OTHER_CODECS = Kind(
    "other-codecs",
    "the codec libraries have other versions than when it began: what is made now may differ",
)
PRESET_CHANGED = Kind(
    "preset-changed", "preset {preset} has changed since: the batch is resumed with it as it was"
)
PRESETS_UNREADABLE = Kind(
    "presets-unreadable",
    "its presets can no longer be read ({reason}): the batch is resumed with them as they were",
)
NOT_NOTIFIED = Kind("not-notified", "{reason}")
COMMAND_NOT_KEPT = Kind(
    "command-not-kept", f"a command was to be run at its end: {setting('when-ended')} gives it again"
)
WEB_HOOK_NOT_KEPT = Kind("web-hook-not-kept", f"it had a web hook: {setting('web-hook')} gives it again")
CLUSTER_NOT_KEPT = Kind(
    "cluster-not-kept",
    f"it was begun on a cluster and is made on this machine now: {setting('cluster')} gives it again",
)
STEP_FAILED = Kind("step-failed", "{kind} failed: {reason}; resuming the batch does it again")
