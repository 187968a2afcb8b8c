"""Which shots are wanted and which are not, by what is known of each."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from fnmatch import fnmatchcase
from fractions import Fraction

from msgspec import Struct

from boxkite.core.errors import BoxkiteError, PlanError, setting
from boxkite.core.job.choice import ALONE, KINDS, Choice
from boxkite.core.naming.values import Value
from boxkite.core.notices.notice import listed
from boxkite.core.notices.shots import EXCLUDED, NOT_CHOSEN
from boxkite.core.shots.shot import LeftOut, Shot
from boxkite.core.suggest import did_you_mean
from boxkite.core.timebase import FrameRate, timecode_to_frames

_NUMBER = re.compile(r"\d{1,9}(?:\.\d{1,6})?", re.ASCII)
_RANGE = re.compile(r"(\d{1,9}(?:\.\d{1,6})?)-(\d{1,9}(?:\.\d{1,6})?)", re.ASCII)
_SECONDS = re.compile(r"(\d{1,7}(?:[.,]\d{1,6})?)\s*s", re.ASCII)


class Candidate(Struct, frozen=True):
    """A shot with what can be asked of it."""

    shot: Shot
    number: int
    """Its place among all, from 1."""
    values: Mapping[str, Value]


def choose(
    candidates: Sequence[Candidate],
    only: Sequence[Choice],
    without: Sequence[Choice],
    known: Collection[str],
) -> tuple[list[Shot], list[LeftOut]]:
    """The shots that fit every `only` and no `without`; the others with the choice that left them out.

    Raises PlanError for a token that is not known, or a length that cannot be read.
    """
    tests = [(choice, _test(choice, known, setting("only")), True) for choice in only]
    tests += [(choice, _test(choice, known, setting("except")), False) for choice in without]
    kept, left_out = [], []
    for candidate in candidates:
        against = next((one for one in tests if one[1](candidate) is not one[2]), None)
        shot = candidate.shot
        if against is None:
            kept.append(shot)
        else:
            choice, _, wanted = against
            reason = (NOT_CHOSEN if wanted else EXCLUDED)(choice=choice.text)
            left_out.append(LeftOut(shot.marker or shot.clip_name, shot.origin, reason))
    return kept, left_out


def fitting_all(
    choices: Sequence[Choice], known: Collection[str], option: str
) -> Callable[[Candidate], bool]:
    """A function that tells whether a shot fits all of some choices. Raises PlanError as choose does."""
    tests = [_test(choice, known, option) for choice in choices]
    return lambda candidate: all(test(candidate) for test in tests)


def _test(choice: Choice, known: Collection[str], option: str) -> Callable[[Candidate], bool]:
    kind = choice.kind
    if kind == "circled":
        return lambda candidate: candidate.shot.circled
    if kind == "marked":
        return lambda candidate: bool(
            candidate.shot.marker or candidate.shot.keywords or candidate.shot.circled
        )
    if kind == "keyword":
        return lambda candidate: any(_fits(word, choice.values) for word in candidate.shot.keywords)
    if kind == "track":
        return lambda candidate: bool(
            candidate.shot.edited and _fits(candidate.shot.edited.track, choice.values)
        )
    if kind == "name":
        return lambda candidate: any(
            _fits(name, choice.values) for name in (candidate.shot.marker, candidate.shot.clip_name) if name
        )
    if kind == "number":
        return lambda candidate: choice.has_number(candidate.number)
    if kind == "length":
        return lambda candidate: any(
            _of_length(candidate.shot, value, choice, option) for value in choice.values
        )
    token = kind.removeprefix("@").strip("()")
    name = next((one for one in known if one.casefold() == token.casefold()), None)
    if name is None:
        hint = did_you_mean(token, [*ALONE, *KINDS, *known])
        raise PlanError(
            f"{option} {choice.text}: there is no token “{token}”",
            hint=hint or f"boxkite inspect {setting('tokens')}",
        )
    return lambda candidate: _has(_shown(candidate.values.get(name)), choice.values)


def unmet(choice: Choice, candidates: Sequence[Candidate], known: Collection[str]) -> str:
    """Where no candidate meets a choice: which values there are. Empty where one does."""
    test = _test(choice, known, setting("only"))
    if any(map(test, candidates)):
        return ""
    kind = choice.kind
    if kind == "circled":
        return "nothing here says which takes are circled: no mark, edit, table or sidecar"
    if kind == "keyword":
        found = [word for one in candidates for word in one.shot.keywords]
    elif kind == "name":
        found = [one.shot.marker or one.shot.clip_name for one in candidates]
    elif kind == "track":
        found = [one.shot.edited.track for one in candidates if one.shot.edited]
    elif kind in KINDS or kind in ALONE:
        return ""
    else:
        token = kind.removeprefix("@").strip("()").casefold()
        name = next(one for one in known if one.casefold() == token)
        found = [text for one in candidates if (text := _shown(one.values.get(name)))]
    distinct = list(dict.fromkeys(filter(None, found)))
    return (
        f"{setting('only')} {choice.text}: there are {listed(distinct)}"
        if distinct
        else (f"{setting('only')} {choice.text}: no shot has one")
    )


def _shown(value: Value | None) -> str:
    return value.shown() if value else ""


def _fits(text: str, patterns: Sequence[str]) -> bool:
    """Whether a text is one of the values, case ignored; * and ? stand for any characters."""
    return any(fnmatchcase(text.casefold(), pattern.casefold()) for pattern in patterns)


def _has(text: str, patterns: Sequence[str]) -> bool:
    """Whether a value fits a pattern, or is a number in a range, as 4-5."""
    if _fits(text, patterns):
        return True
    ranges = [match for pattern in patterns if (match := _RANGE.fullmatch(pattern.strip()))]
    return bool(_NUMBER.fullmatch(text.strip())) and any(
        Fraction(match[1]) <= Fraction(text.strip()) <= Fraction(match[2]) for match in ranges
    )


def _of_length(shot: Shot, text: str, choice: Choice, option: str) -> bool:
    """Whether a shot is as long as "50", "2s-", "-100" or "1s-00:00:04:00" say."""
    rate = shot.footage.frame_index.rate
    shortest, dash, longest = text.partition("-")
    try:
        least = _frames(shortest, rate) if shortest else 0
        most = least if not dash else _frames(longest, rate) if longest else None
    except (BoxkiteError, ValueError):
        raise PlanError(
            f"{option} {choice.text}: “{text}” is no length",
            hint="frames, seconds or timecode: length:2s-, length:25-100",
        ) from None
    return shot.span.length >= least and (most is None or shot.span.length <= most)


def _frames(text: str, rate: FrameRate) -> int:
    if match := _SECONDS.fullmatch(text):
        return rate.frames_in(Fraction(match[1].replace(",", ".")))
    if re.fullmatch(r"\d{1,9}", text, re.ASCII):
        return int(text)
    return timecode_to_frames(text, rate)[0]


def why(left_out: Sequence[LeftOut]) -> str:
    """The reasons why shots were left out, counted, in one line; empty if none was."""
    counts: dict[str, int] = {}
    for one in left_out:
        reason = one.reason.marked
        counts[reason] = counts.get(reason, 0) + 1
    if not counts:
        return ""
    parts = ", ".join(f"{count} {reason}" for reason, count in counts.items())
    return f"{len(left_out)} left out: {parts}"
