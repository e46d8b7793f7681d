"""The text of a layout cut into tokens, and the errors that point into it.

`docs/layouts.md` holds the grammar. A line ends a statement, as a comma does; `#` begins a comment.
"""

from __future__ import annotations

import re
from typing import NoReturn

from msgspec import Struct

from ...errors import FormatError

__all__ = ["LONGEST_NUMBER", "LayoutError", "Source", "Token", "Tokens"]

_TOKEN = re.compile(
    r"(?P<space>[ \t\r]+|\#[^\n]*)|(?P<end>[\n,])|(?P<text>\"(?:[^\"\\\n]|\\.)*\")"
    r"|(?P<number>[-+]?(?:0x[0-9a-fA-F]+|\d+(?:\.\d+)?)\b)"
    r"|(?P<name>[A-Za-z_][\w-]*(?:\.[A-Za-z_][\w-]*)*)|(?P<sign>==|!=|<=|>=|[{}=<>*])"
)
_ESCAPE = re.compile(r"\\(?:x([0-9a-fA-F]{2})|(.))")
_LARGEST = 1 << 20  # characters
LONGEST_NUMBER = 40


class LayoutError(FormatError):
    """A layout is wrong; the message shows its line with a caret.

    >>> kl.Layout.parse("layout chart\\nharbours tabel u16")
    Traceback (most recent call last):
        ...
    kindred_ledger.formats.layouts.language.LayoutError: the layout, line 2: there is no type 'tabel'...
    """

    exit_status = 2


class Source(Struct, frozen=True):
    """The text of a layout and what it is called."""

    name: str
    text: str

    def show(self, at: int) -> str:
        """Return the line of an offset, with a caret below it."""
        start = self.text.rfind("\n", 0, at) + 1
        line = self.text[start:].split("\n", 1)[0].rstrip()
        number = self.text.count("\n", 0, at) + 1
        lead = f"  {number:>4} | "
        caret = "".join("\t" if sign == "\t" else " " for sign in line[: at - start])
        return f"{lead}{line}\n{' ' * (len(lead) - 2)}| {caret}^"

    def fail(self, what: str, at: int) -> NoReturn:
        """Raise the error for a fault at an offset.

        Raises:
            LayoutError: always.
        """
        line = self.text.count("\n", 0, at) + 1
        raise LayoutError(what, where=f"{self.name}, line {line}", remedy=self.show(at))


class Token(Struct, frozen=True):
    """A word of a layout: its kind (text, number, name, sign, end, expression), text and offset."""

    kind: str
    text: str
    at: int


class Tokens:
    """The tokens of a layout, looked at one by one."""

    def __init__(self, source: Source) -> None:
        self.source = source
        if len(source.text) > _LARGEST:
            source.fail("a layout this long is none", _LARGEST)
        self._tokens = list(_cut(source))
        self._at = 0

    @property
    def next(self) -> Token:
        """The token that comes next; its kind is "" behind the last."""
        if self._at < len(self._tokens):
            return self._tokens[self._at]
        return Token("", "the end", len(self.source.text))

    @property
    def after_next(self) -> Token:
        """The token behind the one that comes next."""
        at = self._at + 1
        return self._tokens[at] if at < len(self._tokens) else Token("", "the end", 0)

    def take(self) -> Token:
        """Return the next token and go on behind it."""
        token = self.next
        self._at += 1
        return token

    def accept(self, *texts: str) -> bool:
        """Take the next token if it is one of these signs or words."""
        if self.next.kind in ("name", "sign") and self.next.text in texts:
            self._at += 1
            return True
        return False

    def expect(self, text: str) -> Token:
        """Take a sign or word that must come now."""
        if self.next.text != text or self.next.kind == "text":
            self.fail(f"expected {text!r}, found {self.next.text!r}")
        return self.take()

    def name(self, what: str) -> Token:
        """Take a name."""
        if self.next.kind != "name":
            self.fail(f"expected {what}, found {self.next.text!r}")
        return self.take()

    def number(self, what: str) -> int:
        """Take a whole number."""
        if self.next.kind != "number" or "." in self.next.text:
            self.fail(f"expected {what}, found {self.next.text!r}")
        if len(self.next.text) > LONGEST_NUMBER:
            self.fail(f"{what} is longer than {LONGEST_NUMBER} digits")
        return int(self.take().text, 0)

    def skip_ends(self) -> None:
        """Go on behind ends of lines."""
        while self.next.kind == "end":
            self._at += 1

    def end(self) -> None:
        """Take the end of a statement; a closing brace is one, too."""
        if self.next.kind == "end":
            self.skip_ends()
        elif self.next.kind != "" and self.next.text != "}":
            self.fail(f"expected the end of the line, found {self.next.text!r}")

    def fail(self, what: str, at: int | None = None) -> NoReturn:
        """Raise the error for what stands next, or at an offset."""
        self.source.fail(what, self.next.at if at is None else at)


def unquoted(text: str) -> str:
    """Return what a text in quotes says; \\x41 is a character by its number."""
    return _ESCAPE.sub(lambda m: chr(int(m[1], 16)) if m[1] else {"n": "\n", "0": "\0"}.get(m[2], m[2]),
                       text[1:-1])  # fmt: skip


def _cut(source: Source) -> list[Token]:
    out = []
    at = 0
    while at < len(source.text):
        if source.text[at] == "(":
            end = _closing(source, at)
            out.append(Token("expression", source.text[at + 1 : end], at))
            at = end + 1
            continue
        match = _TOKEN.match(source.text, at)
        if match is None or match.lastgroup is None:
            source.fail(f"{source.text[at]!r} has no meaning here", at)
        if match.lastgroup != "space":
            out.append(Token(match.lastgroup, match[0], at))
        at = match.end()
    return out


def _closing(source: Source, start: int) -> int:
    """Return where the bracket closes that opens at an offset, in the same line."""
    depth, quote = 0, ""
    for at in range(start, len(source.text)):
        sign = source.text[at]
        if sign == "\n":
            break
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "\"'":
            quote = sign
        elif sign in "()":
            depth += 1 if sign == "(" else -1
            if not depth:
                return at
    return source.fail("this bracket is not closed in its line", start)
