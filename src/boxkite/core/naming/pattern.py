"""The pattern language: reading a pattern into its parts, checking its tokens, making names of it.

The grammar stands in docs/patterns.md.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator

from msgspec import Struct

from boxkite.core.errors import NameTooLongError, PatternError, setting
from boxkite.core.files.names import (
    MOST_BYTES,
    UNSAFE_SIGNS,
    byte_length,
    clean_value,
    is_surely_short,
    safe_component,
)
from boxkite.core.naming.values import FormError, Text, Values, in_forms
from boxkite.core.suggest import did_you_mean

MOST_CHARACTERS = 2000
_DEEPEST = 20
_ENDINGS = re.compile(r"\.(mov|mp4|m4v|mxf|mkv|webm|wav|avi)$", re.IGNORECASE)


class LiteralText(Struct, frozen=True):
    """Own text of the pattern."""

    text: str


class FolderBreak(Struct, frozen=True):
    """The border between a folder and what is inside it."""


class TokenUse(Struct, frozen=True):
    """One token with its forms; column counts from 1."""

    name: str
    forms: tuple[str, ...]
    column: int
    bare: bool


class TokenPart(Struct, frozen=True):
    """The first of its choices that is not empty."""

    choices: tuple[TokenUse, ...]


class OptionalPart(Struct, frozen=True):
    """Parts that vanish together when a token among them is empty."""

    parts: tuple[Part, ...]


Part = LiteralText | FolderBreak | TokenPart | OptionalPart


class Pattern(Struct, frozen=True):
    """A pattern in its parts."""

    text: str
    parts: tuple[Part, ...]

    @property
    def choices(self) -> tuple[TokenUse, ...]:
        """Every token it names, in order."""
        return tuple(_choices(self.parts))


def _choices(parts: tuple[Part, ...]) -> Iterator[TokenUse]:
    for part in parts:
        if isinstance(part, TokenPart):
            yield from part.choices
        elif isinstance(part, OptionalPart):
            yield from _choices(part.parts)


class _Reader:
    """Reads a pattern from left to right, always knowing its column."""

    def __init__(self, text: str, refused: frozenset[str]) -> None:
        self.text = text
        self.refused = refused
        self.at = 0

    def fail(self, message: str, at: int, hint: str = "") -> PatternError:
        return PatternError(message, pattern=self.text, column=at + 1, hint=hint)

    def parts(self, depth: int = 0, opened_at: int | None = None) -> tuple[Part, ...]:
        if depth > _DEEPEST:
            raise self.fail("brackets are nested too deep", self.at)
        found: list[Part] = []
        own = ""
        while self.at < len(self.text):
            character = self.text[self.at]
            if character == "]" and opened_at is not None:
                break
            special = self._special(character, depth)
            if special is None:
                own += self._literal_character(character)
                continue
            if own:
                found.append(LiteralText(own))
                own = ""
            found.append(special)
        if own:
            found.append(LiteralText(own))
        if opened_at is not None:
            if self.at >= len(self.text):
                raise self.fail(
                    "this bracket is never closed", opened_at, "write @[ for the character itself"
                )
            self.at += 1
        return tuple(found)

    def _special(self, character: str, depth: int) -> Part | None:
        start = self.at
        if character == "/":
            self.at += 1
            return FolderBreak()
        if character == "[":
            self.at += 1
            return OptionalPart(self.parts(depth + 1, start))
        if character == "]":
            raise self.fail("this bracket was never opened", start, "write @] for the character itself")
        if character != "@" or self.text[start + 1 : start + 2] in ("@", "[", "]"):
            return None
        if self.text[start + 1 : start + 2] == "(":
            return self._choices_in_parentheses()
        match = re.compile(r"[^\W\d_]+").match(self.text, start + 1)
        if not match:
            raise self.fail("no token follows this @", start, "write @@ for the character itself")
        self.at = match.end()
        return TokenPart((TokenUse(match[0], (), start + 1, bare=True),))

    def _literal_character(self, character: str) -> str:
        if character == "@":
            self.at += 2
            return self.text[self.at - 1]
        if character in self.refused or ord(character) < 32:
            hint = "use / between folders" if character == "\\" else "leave it out"
            hint = "inside @( … ) it separates fallbacks; here leave it out" if character == "|" else hint
            raise self.fail(f"a file name cannot hold {character!r}", self.at, hint)
        self.at += 1
        return character

    def _choices_in_parentheses(self) -> TokenPart:
        start = self.at
        self.at += 2
        choices: list[TokenUse] = []
        while True:
            column = self.at + 1
            name, *forms = self._words(start)
            if not name.strip():
                raise self.fail("a token's name is missing here", column - 1)
            choices.append(TokenUse(name.strip(), tuple(forms), column, bare=False))
            closing = self.text[self.at]
            self.at += 1
            if closing == ")":
                return TokenPart(tuple(choices))

    def _words(self, opened_at: int) -> list[str]:
        """A name and its forms, up to the | or ) that ends them."""
        words = [""]
        while self.at < len(self.text):
            character = self.text[self.at]
            if character in "|)":
                return words
            if character == "@":
                escaped = self.text[self.at + 1 : self.at + 2]
                if not escaped or escaped not in "@:|)[]":
                    raise self.fail("inside parentheses @ goes before @ : | ) [ or ]", self.at)
                words[-1] += escaped
                self.at += 2
                continue
            if character == ":":
                words.append("")
            else:
                words[-1] += character
            self.at += 1
        raise self.fail("this parenthesis is never closed", opened_at)


def read_pattern(text: str) -> Pattern:
    """Read a pattern. Raises PatternError, with the column, for anything that is not one.

    Also refuses what shells do to patterns: single quotes around it, nothing at all.
    """
    if not text.strip():
        raise PatternError(
            "the pattern is empty",
            pattern=text,
            hint='put patterns in double quotes; some shells take an @ for their own: "@marker"',
        )
    if len(text) >= 2 and text[0] == text[-1] == "'":
        raise PatternError(
            "the pattern is wrapped in single quotes, which this shell passes on as they are",
            pattern=text,
            hint=f'put it in double quotes: "{text[1:-1]}"',
        )
    if len(text) > MOST_CHARACTERS:
        raise PatternError(f"a pattern has at most {MOST_CHARACTERS} characters, this one {len(text)}")
    reader = _Reader(text, UNSAFE_SIGNS)
    pattern = Pattern(text, reader.parts())
    own_components = text.split("/")
    for index, component in enumerate(own_components):
        column = sum(len(other) + 1 for other in own_components[:index])
        if component in ("", ".", "..") or component.strip(". ") == "":
            raise reader.fail(
                "a folder's name is missing here"
                if not component
                else f"“{component}” is not a folder's name",
                min(column, len(text) - 1),
                f"names stay inside the folder given with {setting('to')}",
            )
    last = pattern.parts[-1]
    if isinstance(last, LiteralText) and (match := _ENDINGS.search(last.text)):
        raise reader.fail(f"the preset adds the extension: leave out “{match[0]}”", len(text) - len(match[0]))
    return pattern


def read_text_pattern(text: str) -> Pattern:
    """Read a pattern that makes plain text (a burn-in), in which any character may stand. Raises PatternError."""
    return Pattern(text, _Reader(text, frozenset()).parts())


def check_tokens(pattern: Pattern, known: Collection[str]) -> None:
    """Make sure that every token is known. Raises PatternError with the column and the nearest ones."""
    folded = {name.casefold() for name in known}
    for choice in pattern.choices:
        if choice.name.casefold() in folded:
            continue
        hint = did_you_mean(choice.name, known)
        glued = [name for name in known if choice.name.startswith(name)] if choice.bare else []
        if glued:
            name = max(glued, key=len)
            hint = f"did you mean @({name}){choice.name[len(name) :]}?"
        elif hint and choice.bare:
            hint = re.sub(r"mean (.*)\?", lambda match: f"mean @{match[1].replace(' or ', ' or @')}?", hint)
        raise PatternError(
            f"there is no token “{choice.name}”",
            pattern=pattern.text,
            column=choice.column,
            hint=hint or f"inspect {setting('tokens')} lists them all",
        )


def make_name(pattern: Pattern, values: Values) -> str:
    """The name a pattern makes of these values: components joined by "/", each safe on every file system.

    values: by token name; a token that is not there counts as empty. Raises PatternError when the name, or
    one of its folders, is empty, or when a form does not fit its value.
    """
    text, _ = _render(pattern, pattern.parts, values, clean_value)
    components = [safe_component(component) for component in text.split("\0")]
    if not all(components):
        last = not components[-1]
        raise PatternError(
            f"the pattern gives no {'name' if last else 'folder name'} here: its tokens are all empty",
            pattern=pattern.text,
            hint=(
                'give another token to fall back on, as "@(marker|in)"'
                if last
                else 'put the folder in brackets, as "[@scene/]@marker"'
            ),
        )
    return "/".join(components)


def plain_text(pattern: Pattern, values: Values) -> str:
    """The text a pattern makes where it is not a file name (a burn-in): nothing cleaned, / kept."""
    text, _ = _render(pattern, pattern.parts, values, str)
    return text.replace("\0", "/")


def check_length(name: str, extension: str, pattern: Pattern) -> None:
    """Make sure that no component is longer than file systems take. Raises PatternError."""
    if is_surely_short(name + extension):
        return
    components = (name + extension).split("/")
    for component in components:
        if (length := byte_length(component)) > MOST_BYTES:
            token = next((choice.name for choice in pattern.choices), "marker")
            raise NameTooLongError(
                f"“{component[:40]}…” is too long for a file name: {length} bytes, {MOST_BYTES} is the most",
                pattern=pattern.text,
                hint=f'cut the token short, as "@({token}:max80)"',
            )


def _render(
    pattern: Pattern, parts: tuple[Part, ...], values: Values, clean: Callable[[str], str]
) -> tuple[str, bool]:
    """The text of some parts with \\0 between folders, and whether a token among them was empty."""
    out: list[str] = []
    any_empty = False
    for part in parts:
        if isinstance(part, LiteralText):
            out.append(part.text)
        elif isinstance(part, FolderBreak):
            out.append("\0")
        elif isinstance(part, TokenPart):
            value = _first_filled(pattern, part, values, clean)
            any_empty = any_empty or not value
            out.append(value)
        else:
            inner, empty = _render(pattern, part.parts, values, clean)
            out.append("" if empty else inner)
    return "".join(out), any_empty


def _first_filled(pattern: Pattern, token: TokenPart, values: Values, clean: Callable[[str], str]) -> str:
    for choice in token.choices:
        value = values.get(choice.name)
        if value is None:
            folded = choice.name.casefold()
            value = next((values[name] for name in values if name.casefold() == folded), Text(""))
        try:
            text = clean(in_forms(value, choice.forms) if choice.forms else value.shown())
        except FormError as error:
            raise PatternError(str(error), pattern=pattern.text, column=choice.column) from None
        if text.strip(". "):
            return text
    return ""


def has_token(pattern: Pattern) -> bool:
    """Whether the pattern can make different names at all."""
    return bool(pattern.choices)
