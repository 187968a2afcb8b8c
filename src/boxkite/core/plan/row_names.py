"""The name of each row: its pattern, its values, the version of the plan."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from boxkite.core.errors import PatternError, setting
from boxkite.core.files.names import clash_key
from boxkite.core.job.allowed import DEFAULT_PATTERNS
from boxkite.core.job.job import Job, Otherwise
from boxkite.core.naming.images import FRAME, FRAME_MARK, frame_digits, has_frame, split_name
from boxkite.core.naming.pattern import (
    Pattern,
    check_length,
    check_tokens,
    has_token,
    make_name,
    read_pattern,
)
from boxkite.core.naming.values import FormError, LayeredValues, Text, Value, ends_in_version, in_forms
from boxkite.core.naming.versions import MARK, VERSION, Open, next_version, version_choices
from boxkite.core.plan.treatment import Treatment
from boxkite.core.shots.shot import Shot
from boxkite.core.shots.tokens import AGAIN, OUTPUT_TOKENS, NamingContext, ShotValues, known_tokens

Values = Mapping[str, Value]


class RowName(NamedTuple):
    """The name of a row, the same with the version left out, and of images that are named apart from their folder."""

    name: str
    plain_name: str
    image: str = ""
    """With FRAME_MARK for the number; empty for the folder's name, a point and the number."""
    image_digits: int = 0


class RowNames:
    """Makes the names of a plan's rows; `version` is that of the plan, where its names bear one."""

    def __init__(
        self,
        job: Job,
        shots: Sequence[Shot],
        otherwise: Mapping[int, Otherwise],
        treatments: Sequence[Sequence[Treatment]],
    ) -> None:
        """otherwise: by place of a shot, how it is done otherwise. treatments: what each is made into.

        Raises PatternError.
        """
        self._shots = shots
        self._patterns = _patterns(job, shots, otherwise)
        self.pattern = " and ".join(dict.fromkeys(pattern.text for pattern in self._by_place(shots)))
        self._of_output = {
            id(pattern): any(choice.name.casefold() in OUTPUT_TOKENS for choice in pattern.choices)
            for pattern in self._patterns.values()
        }
        self._by_image = {id(pattern) for pattern in self._patterns.values() if has_frame(pattern)}
        versioned = [pattern for pattern in self._patterns.values() if version_choices(pattern)]
        self._versioned = {id(pattern) for pattern in versioned}
        self.version: int | None = None
        context = NamingContext(job.now, job.user)
        self._values = ShotValues(shots, context, self._subfolder, self._unrepeated)
        if versioned:
            self.version = job.version
            if self.version is None:
                self.version = max(next_version(one, self._tried(one, treatments)) for one in versioned)
        elif job.version is not None:
            raise PatternError(
                f"{setting('version-number')} goes with @version in the pattern",
                hint='as "@marker_v@version"',
            )
        context = replace(context, version=self.version)
        self._values = ShotValues(shots, context, self._subfolder, self._unrepeated)
        self._kept = -1, RowName("", ""), ""

    def _by_place(self, shots: Sequence[Shot]) -> list[Pattern]:
        return [self._pattern(shot, index) for index, shot in enumerate(shots)]

    def _pattern(self, shot: Shot, index: int) -> Pattern:
        return self._patterns.get(index) or self._patterns[shot.way]

    def values(self, index: int) -> Values:
        """The values of a shot, whatever it is made into."""
        return self._values.of(self._shots[index], index)

    def names(self, index: int, treatment: Treatment, extension: str, own: Values) -> RowName:
        """The names of a shot in one output. own: its values. Raises PatternError."""
        shot = self._shots[index]
        pattern = self._pattern(shot, index)
        at, kept, shorter = self._kept
        if at == index:
            if len(extension) > len(shorter):
                check_length(kept.name, extension, pattern)
            return kept
        values = own
        by_image = id(pattern) in self._by_image
        of_output = self._of_output[id(pattern)] or by_image
        if by_image:
            values = LayeredValues({FRAME: Open(FRAME_MARK)}, values)  # type: ignore[arg-type]
        if of_output:
            values = LayeredValues(treatment.values, values)  # type: ignore[arg-type]
        try:
            name = plain = make_name(pattern, values)
            if id(pattern) in self._versioned:
                _check_no_second_version(pattern, values)
                plain = make_name(pattern, LayeredValues({VERSION: Open(MARK)}, values))  # type: ignore[arg-type]
        except PatternError as error:
            error.message = f"{error.message} (the shot of {shot.origin})"
            raise
        check_length(name, extension, pattern)
        if by_image:
            is_sequence = treatment.preset.is_sequence
            folder, image = split_name(name, pattern, is_sequence=is_sequence)
            plain, _ = split_name(plain, pattern, is_sequence=is_sequence)
            return RowName(folder, plain, image, frame_digits(pattern))
        named = RowName(name, plain)
        if not of_output:
            self._kept = index, named, extension
        return named

    def _tried(self, pattern: Pattern, treatments: Sequence[Sequence[Treatment]]) -> set[tuple[Path, str]]:
        """The folders and names that a pattern would fill, MARK standing for the version."""
        in_subfolder = "/" in pattern.text
        tried = set()
        for index, shot in enumerate(self._shots):
            if self._pattern(shot, index) is not pattern:
                continue
            values = LayeredValues({VERSION: Open(MARK), FRAME: Open(FRAME_MARK)}, self.values(index))  # type: ignore[arg-type]
            name = ""
            for treatment in treatments[index]:
                if in_subfolder and (not name or self._of_output[id(pattern)]):
                    name = make_name(pattern, values.new_child(treatment.values))  # type: ignore[arg-type]
                own = split_name(name, pattern, is_sequence=treatment.preset.is_sequence).folder
                tried.add((treatment.output.folder, own if in_subfolder else MARK))
        return tried

    def _subfolder(self, shot: Shot, index: int) -> str:
        """The folder that the name of a shot makes, for counters that start again in each."""
        pattern = self._pattern(shot, index)
        values = LayeredValues({"count": Open("0"), AGAIN: Text("")}, self.values(index))  # type: ignore[arg-type]
        return make_name(pattern, values).rpartition("/")[0]

    def _unrepeated(self, shot: Shot, index: int) -> str:
        """The name of a shot without @again, as file systems compare names."""
        values = LayeredValues({AGAIN: Text("")}, self.values(index))  # type: ignore[arg-type]
        return clash_key(make_name(self._pattern(shot, index), values))


def _patterns(job: Job, shots: Sequence[Shot], otherwise: Mapping[int, Otherwise]) -> dict[object, Pattern]:
    """The pattern of each way to cut, and by place those of shots that are named otherwise."""
    known = known_tokens(shots) | {FRAME}
    patterns: dict[object, Pattern] = {
        way: read_pattern(DEFAULT_PATTERNS[way]) for way in {shot.way for shot in shots}
    }
    if job.names is not None:
        patterns = dict.fromkeys(patterns, _checked(job.names, shots, known))
    own = {one.names: _checked(one.names, (), known) for one in otherwise.values() if one.names is not None}
    return patterns | {index: own[one.names] for index, one in otherwise.items() if one.names is not None}


def _checked(text: str, shots: Sequence[Shot], known: Collection[str]) -> Pattern:
    pattern = read_pattern(text)
    check_tokens(pattern, known)
    if len(shots) > 1 and not has_token(pattern):
        raise PatternError(
            f"the pattern has no token, so all {len(shots)} shots would have one name",
            pattern=pattern.text,
            hint=f'some shells take the @ away: put it in double quotes, as {setting("names")} "@marker"',
        )
    return pattern


def _check_no_second_version(pattern: Pattern, values: Values) -> None:
    """Make sure that no other value brings a version itself. Raises PatternError with the column."""
    for choice in pattern.choices:
        value = values.get(choice.name)
        if choice.name.casefold() == VERSION or not isinstance(value, Text):
            continue
        try:
            text = in_forms(value, choice.forms)
        except FormError:
            continue  # treatment the name says so
        if ends_in_version(text):
            raise PatternError(
                f"“{text}” already ends in a version, so the name would have two",
                pattern=pattern.text,
                column=choice.column,
                hint=f"@({choice.name}:unversioned) leaves it out",
            )
