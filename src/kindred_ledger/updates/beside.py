"""Installing beside: a new install next to an untouched one, in a folder named for its version."""

from __future__ import annotations

import os

from blake3 import blake3

from ..cards import PROGRAM, Install, as_install
from ..changes import Action, Changeset, fitted
from ..errors import PlaceChanged, UsageError
from ..finding import Finding
from ..ledger import Ledger, Tag
from ..places import (
    FILE,
    AnyPlace,
    FolderPlace,
    ItemPlace,
    MemoryPlace,
    Node,
    Tree,
    roots_of,
)
from ..planning.opened_release import OpenedRelease, opened_release
from ..planning.readiness import readiness
from ..progress import Progress
from ..statement import Line, Outcome, Statement

__all__ = ["install_beside"]

_RISK = (
    "beside; risk: nothing of the old one; but saves and settings do not follow"
    " by themselves (kindred carry brings them)"
)


def install_beside(
    install: Install,
    release: Install | AnyPlace,
    *,
    ledger: Ledger,
    target: str | os.PathLike[str] = "",
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that makes a new install of a release, and leaves the other as it is.

    `target` is the new folder, or a folder on any drive in which it is to be; empty is beside the
    install. Small files that the card asks for are written, too, where the release has none.

    Raises:
        UsageError: something is in the way, or the release is of another title.
        DecisionNeeded: its version is not certain.
        UnsafeName, UnsafeArchive: the release is hostile or damaged.

    >>> new = "downloads/mossferry-2.0.zip"
    >>> done = kl.install_beside(install, new, ledger=ledger, target="mossferry-2.0").apply(ledger)
    >>> card.open("mossferry-2.0").version.text
    '2.0'
    """
    install = as_install(install)
    offer = opened_release(release, install.card, ledger=ledger, progress=progress)
    folder = _folder(install, offer, os.fspath(target))
    place = ItemPlace(folder)
    now = place.survey()
    if now.leaves or any("/" in path for path in now):
        raise UsageError(
            "something is there already",
            where=folder,
            remedy="Choose another folder with `into=FOLDER`.",
        )
    lines, actions = [], []
    names: dict[str, Node] = {}
    for path, node in offer.tree.items():
        inner = path.removeprefix(PROGRAM)
        if inner and f"{place.name}{inner}" not in now:
            to = f"{place.name}{inner}"
            source = None if node.kind != FILE else offer.place
            reason = f"of the release {offer.name}"
            actions.append(Action(to, None, node, source, path, reason))
            names[to] = node
            if node.kind == FILE:
                lines.append(Line(Outcome.UNCHANGED, to, reason))
    offer.check_held(action.source_path for action in actions if action.source is not None)
    actions += _markers(install, names, place.name)
    version = offer.version.text if offer.version else ""
    ready = readiness(install.card, place, actions, before=None, after=offer.version, ledger=ledger)
    return fitted(
        Changeset(
            place=place,
            operation="install beside",
            summary=f"install {install.card.name} {offer.name} beside {install.tag.version}, in {folder}",
            before=now,
            actions=tuple(actions),
            tag=Tag(install.card.title, version, "the release"),
            version_after=version,
            offered=Tree(names),
            statements=(Statement(f"release {offer.name}", "files", tuple(lines)),),
            findings=(Finding.note("usual-risk", _RISK), *offer.findings, *ready),
            proof=lambda: _read_back(install, offer, folder),
        )
    )


def _folder(install: Install, offer: OpenedRelease, target: str) -> str:
    """Return the new install's folder: as the old one's is named, with the new version in it."""
    root = roots_of(install.place).get(PROGRAM, "")
    parent, old = os.path.split(root)
    here = install.version.text if install.version else ""
    label = offer.version.text if offer.version else offer.name.rpartition("@")[2]
    name = old.replace(here, label) if here and here in old else f"{old}-{label}"
    if not target:
        return os.path.join(parent, name)
    full = os.path.abspath(os.path.expanduser(target))
    if not os.path.isdir(full) or not os.listdir(full) or _is_install(install, full):
        return full
    return os.path.join(full, name)


def _is_install(install: Install, folder: str) -> bool:
    return bool(install.card.file.program.markers) and install.card.is_install(folder)


def _markers(install: Install, names: dict[str, Node], top: str) -> list[Action]:
    wanted = {
        f"{top}/{name}": text.encode()
        for name, text in install.card.updates.table.markers.items()
        if f"{top}/{name}" not in names
    }
    made = MemoryPlace(wanted, location="the card")
    nodes = {path: Node(FILE, len(data), blake3(data).digest()) for path, data in wanted.items()}
    return [
        Action(path, None, node, made, path, "the card asks for it in an install beside another")
        for path, node in nodes.items()
    ]


def _read_back(install: Install, offer: OpenedRelease, folder: str) -> None:
    """Raise unless what was made is an install of that version."""
    made = install.card.open_release(FolderPlace(folder))
    told = {e.version for e in made.evidence if e.version and not e.is_folder_name}
    if offer.version is not None and told and told != {offer.version}:
        raise PlaceChanged(
            f"read back, the new install is {', '.join(sorted(v.text for v in told))}", where=folder
        )
