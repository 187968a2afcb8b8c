"""Words that people try first, and what they are called here."""

from __future__ import annotations

from collections.abc import Iterable

_COMMANDS = {
    "transcode encode render export convert cut split make start process": "boxkite run makes the files of a plan",
    "continue retry restart unpause": "boxkite resume resumes a batch that was stopped",
    "list ls info probe show scan analyse analyze look": "boxkite inspect lists what is there",
    "queue jobs batches progress ps history": "boxkite status shows the batches and how far they are",
    "cancel kill abort pause halt quit": "boxkite stop ends a batch",
    "delete remove clean clear purge": "boxkite forget removes the record of a batch",
    "import copy offload ingest backup card cards": "boxkite gather copies cards and verifies the copies",
    "marks marker markers tag label range ranges keyword": "boxkite mark adds, lists and imports marks",
    "scenes cuts autocut shots": "boxkite mark detect finds the cuts of a finished file",
    "still thumbnail frame grab image sheet": "boxkite preview writes a still",
    "preset profile profiles codec codecs format formats": "boxkite presets lists and makes presets",
    "pattern names naming template templates tokens": "boxkite patterns keeps name patterns",
    "consolidate collect subset": "boxkite trim copies the used part of each source",
    "move mv name": "boxkite rename renames sources by rule",
    "hotfolder monitor folder auto": "boxkite watch makes every file that arrives",
    "dry-run dryrun simulate estimate check": "boxkite plan shows every file before it is made",
    "checksum checksums hash md5 sums mhl seal": (
        "boxkite manifest writes checksums beside finished files; boxkite verify compares files with them"
    ),
    "verification validate compare qc psnr ssim quality": (
        "boxkite verify checks finished files; --deep compares every frame with its source"
    ),
    "upload send share deliver publish ftp sftp": (
        "the files go to the folder that --to names; another program sends them from there"
    ),
}
"""By the words that people try: the command, or where else it is done."""
_OPTIONS = {
    "output out-dir output-dir outdir dest destination target folder o format preset": (
        "--to PRESET:FOLDER says how and where to"
    ),
    "codec crf bitrate quality resolution size fps": (
        "--set PRESET.KEY=VALUE changes a preset, as --set web.video.quality=20"
    ),
    "name pattern naming filename template rename": '--names "PATTERN" names the files',
    "markers list edl csv cut-list": "--marks FILE is the list",
    "start from ss": "--in WHERE is the first frame",
    "end until t stop": "--out WHERE is the first frame after the range",
    "pad padding margin": "--handles LENGTH adds frames at both ends",
    "filter select include keyword tag circled": (
        "--only CHOICE keeps some shots, as --only circled or --only keyword:vat"
    ),
    "exclude ignore skip": "--except CHOICE leaves some shots out",
    "overwrite force y skip-existing": "--existing POLICY: stop, number, skip or replace",
    "lut grade cube colour color": "--look FILE applies a look file",
    "threads jobs cores j parallel": "--workers N is how many shots are made at once",
    "dry-run n simulate": "boxkite plan takes the same options and writes no media",
    "logo overlay": "--watermark IMAGE lays an image over the picture",
    "audio wav": "--sound PATH is where the recorder's files are",
    "framerate rate": "--marks-rate RATE is the rate of a list, --images-rate RATE of images",
    "verbose v q quiet": "boxkite log has what happened; --json prints everything",
}
"""By the words that people try: the option that does it, or where else it is done."""


def meant_command(word: str) -> str:
    """What a word is called here, as a hint; empty where it is not known."""
    return _by_word(_COMMANDS, word)


def meant_option(word: str, options: Iterable[str]) -> str:
    """The same of an option; empty where what it would be is none of the options there are."""
    hint = _by_word(_OPTIONS, word)
    named = hint.split()[0] if hint else ""
    return hint if named and (not named.startswith("--") or named in set(options)) else ""


def _by_word(hints: dict[str, str], word: str) -> str:
    wanted = word.lstrip("-").casefold()
    return next((hint for words, hint in hints.items() if wanted in words.split()), "")
