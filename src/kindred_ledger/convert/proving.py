"""Proving: what the conversion of files is worth, without writing anything."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from ..cards import Card, Format, Install, as_install
from ..errors import KindredError, UsageError
from ..places import (
    AnyPlace,
    AnySelection,
    Place,
    as_place,
    as_selection,
    check_selected,
    read_bytes,
)
from ..progress import Progress
from ..versions import Version
from .converter import Converter, format_version
from .converting import convertible, loose_formats
from .proof import Proof, prove

__all__ = ["prove_files", "prove_install"]


def prove_install(
    install: Install,
    build: Version | str | None = None,
    *,
    only: AnySelection = None,
    progress: Progress | None = None,
) -> Iterator[tuple[str, Proof | KindredError]]:
    """Yield for each file of an install what its conversion is worth; nothing is written.

    A file that is in the wanted version is left out; one that cannot be converted gives the error.

    >>> for path, proof in kl.prove_install(install, "2.0"):
    ...     print(path, proof.same_bytes)
    ...
    user/controls.json True
    user/saves/eel-season.voyage False
    user/saves/first-crossing.voyage False
    user/saves/long-way-round.voyage False
    user/saves/midwinter.voyage False
    user/settings.ini False
    """
    install, wanted = as_install(install), as_selection(only)
    card = install.card
    build = card.build(build) if build else install.sure_version
    there = install.place.survey()
    check_selected(wanted, there.files)
    formats = {path: card.format_of(path) for path in convertible(card, there, wanted)}

    def target(path: str, format: Format) -> Version:
        return format.written_by(build)

    yield from _proofs(install.place, formats, target, progress)


def prove_files(
    place: AnyPlace,
    card: Card,
    build: Version | str | None = None,
    *,
    version: str = "",
    only: AnySelection = None,
    progress: Progress | None = None,
) -> Iterator[tuple[str, Proof | KindredError]]:
    """Yield the same for loose files; see `convert_files` for what they are, and `prove_install`.

    Raises:
        UsageError: neither or both of `build` and `version` are told.

    >>> for path, proof in kl.prove_files("mossferry/userdata/saves", card, "2.0", only="midwinter.voyage"):
    ...     print(path, proof.there.target, proof.same_bytes)
    ...
    midwinter.voyage 5 False
    """
    place, wanted = as_place(place), as_selection(only)
    build = card.build(build) if build else None
    if (build is None) == (not version):
        raise UsageError("either a build or a format version is needed")
    tree = place.survey()
    check_selected(wanted, tree.files)
    formats, targets = loose_formats(card, tree, wanted, build=build, version=version)

    def target(path: str, format: Format) -> Version:
        return format.scheme.parse(targets[path])

    yield from _proofs(place, formats, target, progress)


def _proofs(
    place: Place,
    formats: Mapping[str, Format | None],
    target_of: Callable[[str, Format], Version],
    progress: Progress | None,
) -> Iterator[tuple[str, Proof | KindredError]]:
    converters: dict[str, Converter] = {}
    with (progress or Progress()).task("proving", total=len(formats)) as task:
        for path, format in formats.items():
            assert format is not None
            converter = converters.setdefault(format.name, Converter(format))
            data = read_bytes(place, path)
            try:
                target = target_of(path, format)
                if format_version(data, format, name=path) != target:
                    yield path, prove(converter, data, target, name=path)
            except KindredError as error:
                yield path, error
            task.advance()
