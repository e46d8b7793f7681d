"""Applying a patch set: first what a file or folder is to it, then a changeset that can be undone.

Nothing is applied to what is not a base by its digests; what comes out is held against its digest before
anything is written.
"""

from __future__ import annotations

import io
import os
from collections.abc import Iterable, Mapping
from typing import BinaryIO

from blake3 import blake3
from msgspec import Struct

from ..changes import Action, Changeset, fitted
from ..errors import FormatError, UsageError
from ..finding import Finding
from ..formats.vcdiff import decode
from ..ledger import Ledger, Tag
from ..places import BLOCK, FILE, FolderPlace, MemoryPlace, Node, Place, Tree, read_bytes, refusals
from ..progress import Progress
from .contents import content, sketch
from .patch_set import Change, PatchSet

__all__ = ["Verdict", "apply_delta", "apply_patch", "identify_base"]

_LESS = 0.999  # the share of what is not the same, whatever a sketch says
_NEAR = 0.05  # of a sketch; below that two files have nothing to do with each other


class Verdict(Struct, frozen=True):
    """What a file or folder is to a patch set.

    `bases` are those it is, byte for byte; `outputs` those that it is already. `near` is the base it
    shares most with if it is neither, `share` how much, of 1, and `differing` which of its files differ.

    >>> patches, place = kl.PatchSet.open("downloads/wet-lantern.patches.zip"), kl.open_place("mossferry")
    >>> verdict = kl.identify_base(patches, place, ledger.scan(place), "data/harbours.json")
    >>> verdict.bases
    ('harbours of 1.4',)
    """

    bases: tuple[str, ...] = ()
    outputs: tuple[str, ...] = ()
    near: str = ""
    share: float = 0.0
    differing: tuple[str, ...] = ()


def identify_base(
    patches: PatchSet, place: Place, tree: Tree, name: str = "", *, output: str = ""
) -> Verdict:
    """Return what a place is to a patch set; `name` is the file that is meant, of a set for single files.

    `tree` has the digests of the place's files. A base is one from which some output is made, or
    `output` if that is told: different outputs may need different files.

    Raises:
        UsageError: the set is for single files, and there is none of that name.

    >>> patches, place = kl.PatchSet.open("downloads/wet-lantern.patches.zip"), kl.open_place("mossferry")
    >>> kl.identify_base(patches, place, ledger.scan(place), "data/harbours.json").bases
    ('harbours of 1.4',)
    """
    if patches.is_single and name not in tree:
        raise UsageError(
            "this patch set is for a single file, and none is named"
            if not name
            else f"there is no file {name!r} here",
            where=place.location,
            remedy="Say which file: `name=PATH`.",
        )
    digests = (
        {"": _digest(tree, name)}
        if patches.is_single
        else {path: _digest(tree, path) for path in tree}
    )
    pairs = [
        (base.name, output.name)
        for base in patches.manifest.bases
        for output in patches.manifest.outputs
    ]
    bases, outputs = (
        tuple(dict.fromkeys(
            pair[at] for pair in pairs
            if (side == "becomes" or output in ("", pair[1]))
            and (changes := patches.changes(*pair)) and not _differing(changes, digests, side)
        ))
        for at, side in enumerate(("was", "becomes"))
    )  # fmt: skip
    if bases or outputs:
        return Verdict(bases, outputs)
    if patches.is_single:
        return _nearest_file(patches, place, name)
    return _nearest_folder(patches, digests, [pair for pair in pairs if output in ("", pair[1])])


def _nearest_file(patches: PatchSet, place: Place, name: str) -> Verdict:
    best = Verdict()
    with content(place, name) as data:
        own = frozenset(sketch(data))
    for base in patches.manifest.bases:
        known = patches.sketch(base.name)
        # Of the smallest of both together, how many both have.
        smallest = sorted(own | known)[: max(len(own), len(known))]
        shared = sum(n in own and n in known for n in smallest)
        share = min(round(shared / max(1, len(smallest)), 3), _LESS)
        if share > max(best.share, _NEAR):
            best = Verdict(near=base.name, share=share, differing=(name,))
    return best


def _nearest_folder(
    patches: PatchSet, digests: Mapping[str, str], pairs: Iterable[tuple[str, str]]
) -> Verdict:
    best = Verdict()
    for base, output in pairs:
        changes = patches.changes(base, output)
        differing = _differing(changes, digests, "was")
        share = 1 - len(differing) / len(changes) if changes else 0
        if share > best.share:
            best = Verdict(near=base, share=round(share, 3), differing=tuple(differing))
    return best


def apply_patch(
    patches: PatchSet,
    place: FolderPlace,
    *,
    ledger: Ledger,
    output: str = "",
    name: str = "",
    to: str = "",
    scratch: str = "",
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that makes an output of the base a place holds.

    `name` is the file that is meant, of a set for single files; `to` is the name of a new file that
    the output becomes, and the base stays. `output` may be left out where there is one. `scratch` is a
    folder for the results until the change is applied; without one they are put together in memory.

    Raises:
        UsageError: the place is no base of the set, it is the output already, or there are several outputs.
        FormatError: the set is damaged: what comes out is not what it should be.

    >>> patches = kl.PatchSet.open("downloads/wet-lantern.patches.zip")
    >>> place, name = kl.FolderPlace("mossferry"), "data/harbours.json"
    >>> kl.apply_patch(patches, place, ledger=ledger, name=name, output="full").summary
    'make full of harbours of 1.4'
    """
    tree = ledger.scan(place, progress=progress)
    output = _chosen(patches, output)
    verdict = identify_base(patches, place, tree, name, output=output)
    if not verdict.bases:
        raise _no_base(patches, verdict, output, place.path(name) if name else place.location)
    base = verdict.bases[0]
    changes = patches.changes(base, output)
    if to and to in tree:
        raise _taken(place, to)
    wanted = {each.path or to or name: each for each in changes if each.becomes}
    results: Place
    if scratch:
        for path, change in wanted.items():
            _make_file(os.path.join(scratch, *path.split("/")), patches, place, change, name)
        results = FolderPlace(scratch)
    else:
        results = MemoryPlace(
            {path: _in_memory(patches, place, change, name) for path, change in wanted.items()}
        )
    nodes = {
        path: Node(FILE, change.size, bytes.fromhex(change.becomes))
        for path, change in wanted.items()
    }
    actions = []
    for change in changes:
        path = change.path or to or name
        before = tree.get(path)
        after = _node(nodes[path], before) if path in nodes else None
        reason = f"{base} becomes {output}"
        actions.append(Action(path, before, after, results if after else None, path, reason))
    return fitted(
        Changeset(
            place=place,
            operation="patch",
            summary=f"make {output} of {base}",
            before=tree,
            actions=tuple(actions),
            tag=Tag(title=patches.manifest.title),
            findings=(
                *(
                    Finding.note("makers-note", text)
                    for text in (
                        patches.manifest.notes,
                        *(each.notes for each in patches.manifest.outputs if each.name == output),
                    )
                    if text
                ),
                *(
                    Finding.note("digest", f"{output}: {each.size:,} bytes, BLAKE3 {each.becomes}")
                    for each in changes
                    if not each.path
                ),
            ),
        )
    )


def apply_delta(
    delta: str,
    place: FolderPlace,
    name: str,
    *,
    ledger: Ledger,
    to: str = "",
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that a VCDIFF file without a manifest makes of a file, in memory.

    It does not say what it is for: the digests of the file and of the result are in the notes. `to` is
    as for `apply_patch`.

    Raises:
        FormatError: the delta is damaged, or does not fit the file.
        UsageError: something has the name already.
    """
    tree = ledger.scan(place, progress=progress)
    if to and to in tree:
        raise _taken(place, to)
    base = read_bytes(place, name)
    out = io.BytesIO()
    with refusals(delta), open(delta, "rb") as file:
        try:
            decode(file, base, out)
        except FormatError as error:
            raise error.inside(delta) from None
    data, path = out.getvalue(), to or name
    source = MemoryPlace({path: data})
    before = tree.get(path)
    action = Action(
        path,
        before,
        _node(source.survey()[path], before),
        source,
        path,
        "by a delta without a manifest",
    )
    return fitted(
        Changeset(
            place=place,
            operation="patch",
            summary=f"apply {os.path.basename(delta)} to {name}",
            before=tree,
            actions=(action,),
            findings=(
                Finding.note(
                    "digest", f"base:   {len(base):,} bytes, BLAKE3 {blake3(base).hexdigest()}"
                ),
                Finding.note(
                    "digest", f"result: {len(data):,} bytes, BLAKE3 {blake3(data).hexdigest()}"
                ),
                Finding.warning(
                    "base-untold",
                    "the delta does not say what it is for; compare the digests with those its maker names",
                ),
            ),
        )
    )


def _taken(place: FolderPlace, name: str) -> UsageError:
    return UsageError(
        "something is there already", where=place.path(name), remedy="Choose another name."
    )


def _make_file(path: str, patches: PatchSet, place: Place, change: Change, name: str) -> None:
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w+b") as file:
        _make(file, patches, place, change, name)


def _in_memory(patches: PatchSet, place: Place, change: Change, name: str) -> bytes:
    out = io.BytesIO()
    _make(out, patches, place, change, name)
    return out.getvalue()


def _make(out: BinaryIO, patches: PatchSet, place: Place, change: Change, name: str) -> None:
    """Write what a file becomes, and hold it against its digest."""
    member = change.delta or change.content
    if change.content:
        for block in patches.blocks(member):
            out.write(block)
    else:
        with content(place, change.path or name) as base:
            try:
                decode(io.BytesIO(patches.member(member)), base, out)
            except FormatError as error:
                raise error.inside(f"{patches.path}: {member}") from None
    hasher = blake3()
    size = out.tell()
    out.seek(0)
    while block := out.read(BLOCK):
        hasher.update(block)
    if hasher.hexdigest() != change.becomes or size != change.size:
        raise FormatError(
            "what comes out is not what the set says it should be",
            where=f"{patches.path}: {member}",
            remedy="The patch set is damaged; fetch it again.",
        )


def _chosen(patches: PatchSet, output: str) -> str:
    names = [each.name for each in patches.manifest.outputs]
    if output in names or (not output and len(names) == 1):
        return output or names[0]
    asked = f"there is no output {output!r}" if output else "it makes several things"
    raise UsageError(asked, where=patches.path, remedy=f"Choose one: `result={' | '.join(names)}`")


def _no_base(patches: PatchSet, verdict: Verdict, output: str, where: str) -> UsageError:
    names = ", ".join(each.name for each in patches.manifest.bases)
    if output in verdict.outputs:
        return UsageError(
            f"this is {output} already", where=where, remedy="There is nothing to do."
        )
    if verdict.outputs:
        return UsageError(
            f"this is {verdict.outputs[0]}, of which nothing is made",
            where=where,
            remedy=f"Apply the patch to one of its bases: {names}.",
        )
    if verdict.near:
        some = ", ".join(path or "the file" for path in verdict.differing[:5])
        return UsageError(
            f"this is not {verdict.near}, though {verdict.share:.1%} of it is the same: another revision or"
            " language, or it was edited",
            where=where,
            remedy=f"What differs: {some}. The set is for {names}.",
        )
    return UsageError(
        "this has nothing in common with what the set is for",
        where=where,
        remedy=f"It is for {names}.",
    )


def _differing(changes: tuple[Change, ...], digests: Mapping[str, str], side: str) -> list[str]:
    return [each.path for each in changes if digests.get(each.path, "") != getattr(each, side)]


def _digest(tree: Tree, path: str) -> str:
    """Return the digest of a file, "" where nothing is; a folder or a link is neither."""
    node = tree.get(path)
    if node is None:
        return ""
    return node.digest.hex() if node.kind == FILE and node.digest else node.kind


def _node(node: Node, before: Node | None) -> Node:
    return node._replace(mode=before.mode) if before is not None else node
