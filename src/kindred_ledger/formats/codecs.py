"""Codecs by name: what turns bytes into a document. Each is imported when it is first used."""

from __future__ import annotations

from importlib import import_module

from ..errors import UsageError
from .document import Document

TYPE_CHECKING = False
if TYPE_CHECKING:
    from .layouts import Layout

__all__ = ["CODECS", "LAYOUT", "decode", "load_layout"]

LAYOUT = "layout"  # what a card calls the codec of binary files, which a layout describes

CODECS: dict[str, tuple[str, str]] = {
    "json": (".json_text", "JsonDocument"),
    "ini": (".ini_text", "IniDocument"),
    "toml": (".toml_text", "TomlDocument"),
    "yaml": (".yaml_text", "YamlDocument"),
    "xml": (".xml_text", "XmlDocument"),
    "csv": (".csv_text", "CsvDocument"),
    "text": (".line_text", "LineDocument"),
    "msgpack": (".msgpack_data", "MessagePackDocument"),
    "cbor": (".cbor_data", "CborDocument"),
    "sqlite": (".sqlite_data", "SqliteDocument"),
    "zip": (".zip_pack", "ZipDocument"),
}


def decode(data: bytes, codec: str, *, layout: Layout | None = None) -> Document:
    """Read bytes as a document; `layout` describes those of the codec `LAYOUT`.

    >>> document = decode(b'{"coins": 1.10} // mine', "json")
    >>> document.set(("pets",), 2); document.encode()
    b'{"coins": 1.10, "pets": 2} // mine'

    Raises:
        FormatError: the bytes are not of that format.
    """
    if layout is not None:
        document: Document = import_module(".layouts", __package__).LayoutDocument(data, layout)
        return document
    if codec not in CODECS:
        raise UsageError(f"there is no codec {codec!r}", remedy=f"Use one of: {', '.join(CODECS)}.")
    module, name = CODECS[codec]
    made: Document = getattr(import_module(module, __package__), name)(data)
    return made


def load_layout(path: str) -> Layout:
    """Read a layout from a file; most titles have none, so what reads them is imported here.

    Raises:
        LayoutError: the text is no layout.
    """
    made: Layout = import_module(".layouts", __package__).Layout.load(path)
    return made
