"""Codecs by name: what turns bytes into a document. Each is imported when it is first used."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cache
from importlib import import_module

from ..errors import UsageError
from ..extensions import CODECS as ADDED
from ..extensions import installed, load
from .document import Document

TYPE_CHECKING = False
if TYPE_CHECKING:
    from .layouts import Layout

__all__ = ["CODECS", "FOLDER", "LAYOUT", "codec_names", "decode", "decode_folder", "load_layout"]

FOLDER = "folder"  # what a card calls the codec of packs that are folders of files
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


def decode_folder(files: Mapping[str, bytes]) -> Document:
    """Read the files of a folder, by their paths below it, as a document of documents."""
    made: Document = import_module(".folder_pack", __package__).FolderDocument(files)
    return made


def codec_names() -> list[str]:
    """Return the names of all codecs, those of installed packages last."""
    return [*CODECS, *installed(ADDED)]


def decode(
    data: bytes, codec: str, *, layout: Layout | None = None, version: int | None = None
) -> Document:
    """Read bytes as a document; `layout` describes those of the codec `LAYOUT`.

    `version` is that of the layout to read a file in, where no field tells it.

    >>> document = decode(b'{"coins": 1.10} // mine', "json")
    >>> document.set(("pets",), 2); document.encode()
    b'{"coins": 1.10, "pets": 2} // mine'

    Raises:
        FormatError: the bytes are not of that format.
    """
    if layout is not None:
        made = import_module(".layouts", __package__).LayoutDocument
        document: Document = made(data, layout, version=version)
        return document
    if codec not in CODECS:
        if codec not in installed(ADDED):
            raise UsageError(
                f"there is no codec {codec!r}", remedy=f"Use one of: {', '.join(codec_names())}."
            )
        added: Document = load(ADDED, codec)(data)
        return added
    return _own(codec)(data)


@cache
def _own(codec: str) -> Callable[[bytes], Document]:
    module, name = CODECS[codec]
    made: Callable[[bytes], Document] = getattr(import_module(module, __package__), name)
    return made


def load_layout(path: str) -> Layout:
    """Read a layout from a file; most titles have none, so what reads them is imported here.

    Raises:
        LayoutError: the text is no layout.
    """
    made: Layout = import_module(".layouts", __package__).Layout.load(path)
    return made
