"""kindred show"""

from __future__ import annotations

import click

from ...ledger import PROVEN
from ...ledger.migrations import signed_of
from ...places import FILE
from .. import drawing
from ..meanings import flag
from ..options import entry_argument, session
from ..session import Session

_REST = "the rest"  # files of no category


@click.command()
@entry_argument("entry")
@flag("--files", "list_files")
@session
def command(session: Session, *, entry: str, list_files: bool) -> int:
    """Show what one ENTRY holds: an id, its beginning, title@version, or latest.

    \b
    Example, in the demo's folder:
      kindred show mossferry@1.4 --files
    """
    found = session.ledger.entry(entry)
    tree = session.ledger.tree(found)
    sums: dict[str, list[int]] = {}
    for path in tree.files:
        name = next((n for n, p in found.tag.categories.items() if p(path)), _REST)
        one = sums.setdefault(name, [0, 0])
        one[0] += 1
        one[1] += tree[path].size
    if _REST in sums:
        sums[_REST] = sums.pop(_REST)  # behind the categories
    proofs = [m.when for m in session.ledger.marks(PROVEN) if m.subject == found.id]
    signed = signed_of(session.ledger, found.id)
    if session.json:
        nodes = [
            {
                "path": p,
                "kind": n.kind,
                "size_bytes": n.size,
                "blake3": n.digest.hex() if n.digest else None,
            }
            for p, n in tree.items()
        ]
        sums_plain = {name: {"files": n, "size_bytes": size} for name, (n, size) in sums.items()}
        plain = [{"part": each.part, "by": each.by, "when": each.when} for each in signed]
        return session.emit(
            entry=found.to_json(),
            proven=proofs,
            signed_off=plain,
            categories=sums_plain,
            tree=nodes,
        )
    drawing.heading(session.out, found.name, f"entry {found.id}, {drawing.moment(found.when)}")
    for name, root in found.roots.items():
        session.out.print(f"    {name or 'place'}: {root}", soft_wrap=True)
    for label, text in (
        ("note", found.note),
        ("why", "manual backup" if found.reason == "asked" else f"automatic, {found.reason}"),
        ("version from", found.tag.read_from),
        ("tested by a restore", ", ".join(map(drawing.moment, proofs))),
        ("signed off", ", ".join(f"{e.part} ({e.by}, {drawing.moment(e.when)})" for e in signed)),
    ):
        if text:
            session.out.hang("    ", f"{label}: {text}", style="dim")
    drawing.findings(session.out, found.findings)
    lines = [(f"    {name}", f"{n:,}", drawing.size(size)) for name, (n, size) in sums.items()]
    drawing.rows(session.out, ("    category", "files", "size"), lines, " rr")
    if list_files:
        listed = [
            (f"    {path}", drawing.size(node.size) if node.kind == FILE else node.kind)
            for path, node in tree.items()
            if node.kind != "dir"
        ]
        drawing.rows(session.out, ("    path", "size"), listed, " r")
    return 0
