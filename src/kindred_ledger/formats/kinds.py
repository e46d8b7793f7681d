"""What kind of file something is, by its content: signature first, then structure.

A name is never believed; but where it says something else than the content does, that is told. The
first 4 KB decide, so thousands of files can be looked at; `confirm` reads a whole file.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec import Struct

from ..errors import FormatError
from .codecs import CODECS, decode
from .text import Text

__all__ = [
    "HEAD",
    "FileKind",
    "claimed_kind",
    "confirm",
    "kind_of",
    "likely_kinds",
    "misnamed",
    "valid",
]

HEAD = 4096  # bytes that are looked at

_SIGNATURES: tuple[tuple[bytes, int, str, str], ...] = (
    (b"PK\x03\x04", 0, "zip", "a zip archive begins with PK 03 04"),
    (b"PK\x05\x06", 0, "zip", "an empty zip archive begins with PK 05 06"),
    (b"SQLite format 3\0", 0, "sqlite", "an SQLite database says so in its first 16 bytes"),
    (b"\x1f\x8b", 0, "gzip", "gzip data begins with 1F 8B"),
    (b"\x28\xb5\x2f\xfd", 0, "zstd", "Zstandard data begins with 28 B5 2F FD"),
    (b"BZh", 0, "bzip2", "bzip2 data begins with BZh"),
    (b"\xfd7zXZ\0", 0, "xz", "xz data begins with FD 37 7A 58 5A 00"),
    (b"7z\xbc\xaf\x27\x1c", 0, "7z", "a 7z archive begins with 37 7A BC AF 27 1C"),
    (b"ustar", 257, "tar", "a tar archive has ustar at byte 257"),
    (b"\x89PNG\r\n\x1a\n", 0, "png", "a PNG picture begins with 89 50 4E 47"),
    (b"\xff\xd8\xff", 0, "jpeg", "a JPEG picture begins with FF D8 FF"),
    (b"GIF8", 0, "gif", "a GIF picture begins with GIF8"),
    (b"OggS", 0, "ogg", "an Ogg stream begins with OggS"),
    (b"fLaC", 0, "flac", "a FLAC recording begins with fLaC"),
    (b"RIFF", 0, "riff", "a RIFF file begins with RIFF"),
    (b"%PDF-", 0, "pdf", "a PDF document begins with %PDF-"),
    (b"\x7fELF", 0, "program", "an ELF program begins with 7F 45 4C 46"),
    (b"MZ", 0, "program", "a Windows program begins with MZ"),
    (b"\xd9\xd9\xf7", 0, "cbor", "self-described CBOR begins with D9 D9 F7 (RFC 8949, 3.4.6)"),
)

# The names that go with a kind; the first is the one to use.
_EXTENSIONS: dict[str, tuple[str, ...]] = {
    "json": ("json", "jsonc", "json5"), "ini": ("ini", "cfg"), "toml": ("toml",),
    "yaml": ("yaml", "yml"), "xml": ("xml", "svg", "xsd", "xhtml"), "csv": ("csv", "tsv"),
    "msgpack": ("msgpack", "mpk"), "cbor": ("cbor",), "sqlite": ("sqlite", "db", "sqlite3"),
    "zip": ("zip",), "gzip": ("gz",), "zstd": ("zst",), "bzip2": ("bz2",), "xz": ("xz",),
    "7z": ("7z",), "tar": ("tar",), "png": ("png",), "jpeg": ("jpg", "jpeg"), "gif": ("gif",),
    "ogg": ("ogg", "oga", "ogv"), "flac": ("flac",), "riff": ("wav", "avi", "webp"),
    "pdf": ("pdf",), "text": ("txt", "md", "log"),
}  # fmt: skip
_BY_EXTENSION = {name: kind for kind, names in _EXTENSIONS.items() for name in names}
# Kinds that other text may look like; and what the names of programs and of prose end with.
_LOOSE = frozenset(("ini", "toml", "yaml", "csv"))
_CODE = frozenset(
    "bas bash bat c cc cmd cpp cs css fx gd gdshader glsl go h hlsl hpp htm html java js jsx kt log lua md"
    " nut pas php pl ps1 psm1 py pyi pyw rb rs rst scpt sh shader sql swift tcl tex ts tsx vb vbs".split()
)
_ALSO = {("text", "ini"), ("text", "csv"), ("text", "toml"), ("text", "yaml"), ("ini", "text"),
         ("yaml", "json"), ("yaml", "text"), ("csv", "text"), ("ini", "toml"), ("ini", "yaml")}  # fmt: skip

_XML = re.compile(r"\s*(?:<\?xml\b|<!DOCTYPE\b|<!--|<[A-Za-z_][\w.:-]*[\s/>])")
_JSON = re.compile(
    r"(?:\s|//[^\n]*\n|/\*.*?\*/)*+"
    r"(?:\{\s*(?:\"|\}|//|/\*)|(?:\[\s*)+(?:[{\"\-\d\]]|true|false|null|//))",
    re.S,
)
_SECTION = re.compile(r"^[ \t]*\[{1,2}[^\]\[\r\n\"'{},]+\]{1,2}[ \t]*(?:[#;].*)?\r?$", re.M)
_PAIR = re.compile(r"^[ \t]*[\w.\"' -]{1,80}?[ \t]*=[ \t]*(.*)$", re.M)
_OWN_VALUE = re.compile(r"^[^=\n]*=[ \t]*[\"'\[{]", re.M)
_TOML_VALUE = re.compile(
    r"(?:\"(?:[^\"\\]|\\.)*\"|'[^']*'|\"\"\"|'''|[\[{]|true\b|false\b|[-+]?(?:\d|inf|nan))[^#]*(?:#.*)?$"
)
_YAML = re.compile(
    r"(?:^%YAML|^---[ \t]*$|^[ \t]*(?:- )*[\w\"'.@/ -]{1,80}:(?:[ \t]+\S.*|[ \t]*)$)", re.M
)
_QUOTED = re.compile(r'"(?:[^"]|"")*"')
_COMMENT_LINE = re.compile(r"^[ \t]*[#;].*\n?", re.M)


# The upper halves of first bytes of containers; whole files are hardly ever a single number.
_CONTAINERS = {"msgpack": (0x80, 0x90, 0xD0), "cbor": (0x80, 0x90, 0xA0, 0xB0)}


# Bytes that may stand in text of any encoding that extends ASCII.
_IN_TEXT = bytes({*range(32, 256), *b"\t\n\r\f\v\b\x1a\x1b"} - {0x7F})


class FileKind(Struct, frozen=True):
    """A kind of file and what tells it."""

    kind: str  # a codec's name, another kind, "text", "binary" or "empty"
    evidence: str


def kind_of(head: bytes, *, whole: bool = False) -> FileKind:
    """Tell the kind of a file from its first `HEAD` bytes; `whole` if they are all it has.

    >>> kind_of(b'{"coins": 3}', whole=True).kind, kind_of(b"[Video]\\nWidth = 3 px\\n").kind
    ('json', 'ini')
    """
    if not head:
        return FileKind("empty", "it has no bytes")
    for mark, at, kind, evidence in _SIGNATURES:
        if head.startswith(mark, at):
            return FileKind(kind, evidence)
    text = _as_text(head, whole=whole)
    if text is None:
        return _packed(head) if whole else FileKind("binary", "it holds bytes that no text has")
    return _text_kind(text)


def confirm(data: bytes, found: FileKind) -> tuple[FileKind, str]:
    """Read a whole file as what it seems to be; return its kind and what is wrong, if anything.

    Of text that is none of what its structure suggests, nothing is wrong: it is text.
    """
    if found.kind not in CODECS or found.kind == "text":
        return found, ""
    try:
        decode(data, found.kind)
    except FormatError as error:
        where = f"{error.where}: " if error.where else ""
        return found, f"{where}{error.what}"
    return FileKind(found.kind, f"{found.evidence}; {valid(found.kind)}"), ""


def misnamed(name: str, kind: str) -> str:
    """Return what is wrong with a file's extension, "" if nothing is."""
    claimed = claimed_kind(name)
    if claimed in ("", kind) or (claimed, kind) in _ALSO or kind in ("empty", "binary"):
        return ""
    extension = name.rpartition(".")[2]
    right = _EXTENSIONS.get(kind)
    hint = f"such files are named .{right[0]}" if right else f"it is {kind}"
    return f"its name says {claimed} (.{extension}), its content is {kind}: {hint}"


def claimed_kind(name: str) -> str:
    """Return the kind that a file's name says it is, "" if it says none.

    >>> claimed_kind("keys.JSON"), claimed_kind("saves/midwinter")
    ('json', '')
    """
    stem, dot, extension = name.rpartition(".")
    return _BY_EXTENSION.get(extension.lower(), "") if dot and stem else ""


def likely_kinds(name: str, data: bytes) -> list[str]:
    """Return the kinds that a file may be of, by its name, then by what is in it; the likeliest first.

    A program, or prose, may look like settings: what is called so is text, unless it is JSON or XML.

    >>> text = b"spring = 2.40\\nneap = 1.10\\n"
    >>> likely_kinds("tides.dat", text), likely_kinds("tides.py", text)
    (['ini'], [])
    """
    claimed = claimed_kind(name)
    found = kind_of(data[:HEAD], whole=len(data) <= HEAD).kind
    extension = name.rpartition(".")[2].lower()
    if found in _LOOSE and found != claimed and extension in _CODE:
        found = ""
    return list(dict.fromkeys(kind for kind in (claimed, found) if kind))


def _as_text(head: bytes, *, whole: bool) -> str | None:
    """Return the text of a head; None if it is no text."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        try:
            return Text.decode(head[: len(head) & ~1]).text
        except FormatError:
            return None
    if head.translate(None, _IN_TEXT):  # something is left: control characters no text has
        return None
    if whole:
        return Text.decode(head).text
    text = head.decode("utf-8-sig", "ignore")  # the last character may be cut
    return text if len(text) > len(head) // 2 else Text.decode(head).text


def _text_kind(text: str) -> FileKind:
    if _XML.match(text):
        return FileKind("xml", "it begins with a tag")
    if _JSON.match(text):
        return FileKind("json", f"it begins as JSON does, with {text.lstrip()[:1]}")
    for look in _STRUCTURES:
        found = look(text)
        if found is not None:
            return found
    return FileKind("text", "it holds text of no structure known here")


def _sections(text: str) -> FileKind | None:
    if "=" not in text:
        return None
    bare = _COMMENT_LINE.sub("", text) if "#" in text or ";" in text else text
    section = _SECTION.search(bare)
    pairs = len(_PAIR.findall(bare))
    if not pairs:
        return None
    fitting = pairs + len(_SECTION.findall(bare))
    if fitting < 0.6 * sum(bool(line.strip()) for line in bare.splitlines()):
        return None
    first = section[0].strip() if section else "pairs of key and value"
    if _OWN_VALUE.search(bare):  # bare numbers are as good in INI
        values = [value.strip() for value in _PAIR.findall(bare) if value.strip()]
        if all(_TOML_VALUE.match(value) for value in values):
            return FileKind("toml", f"it has {first}, and all values are as TOML writes them")
    return FileKind("ini", f"it has {first}, and values without quotes")


def _yaml(text: str) -> FileKind | None:
    lines = [ln for ln in text.splitlines() if ln.strip() and not ln.lstrip().startswith("#")]
    hits = len(_YAML.findall(text))
    lists = sum(line.lstrip().startswith("- ") for line in lines)
    if lines and hits and hits + lists >= 0.6 * len(lines):
        return FileKind("yaml", "its lines are keys with a colon, or list items")
    return None


def _csv(text: str) -> FileKind | None:
    lines = text.splitlines()[:20]
    if any('"' in line for line in lines):
        lines = _QUOTED.sub("", text).splitlines()[:20]
    lines = [line for line in lines if line.strip()]
    for sign in ",;\t|":
        counts = {line.count(sign) for line in lines[: max(len(lines) - 1, 2)]}
        if len(lines) > 1 and len(counts) == 1 and counts.pop() > 0:
            name = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar"}[sign]
            return FileKind("csv", f"each line has as many cells, with a {name} between")
    return None


_STRUCTURES: tuple[Callable[[str], FileKind | None], ...] = (_sections, _csv, _yaml)


def _packed(data: bytes) -> FileKind:
    """Try what has no signature and can only be told by reading all of it."""
    for kind, first in _CONTAINERS.items():
        if data[0] & 0xF0 not in first:
            continue
        try:
            decode(data, kind)
        except FormatError:
            continue
        return FileKind(kind, f"it reads as one {kind} value, from its first byte to its last")
    return FileKind("binary", "it holds bytes that no text has")


def valid(kind: str) -> str:
    """Say that a file is whole, as what it is: "valid JSON"."""
    return f"valid {_WRITTEN.get(kind, kind.upper())}"


_WRITTEN = {"messagepack": "MessagePack", "sqlite": "SQLite", "text": "text", "zip": "zip"}
