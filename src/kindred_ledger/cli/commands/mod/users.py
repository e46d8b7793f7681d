"""kindred mod users"""

from __future__ import annotations

from typing import Any

import click

from ....errors import UsageError
from ....mods import Usage, users_of
from ....mods.operations import RemoveLibrary
from ....wording import count
from ... import drawing
from ...applying import carry_out
from ...meanings import flag, many
from ...options import storing, writing
from ...session import Session


@click.command()
@click.argument("library")
@click.argument("folders", nargs=-1, required=True)
@many("--called")
@flag("--remove")
@many("--let-go")
@writing
@storing
def command(
    session: Session,
    *,
    library: str,
    folders: tuple[str, ...],
    called: tuple[str, ...],
    remove: bool,
    let_go: tuple[str, ...],
    **options: Any,
) -> int:
    """List the projects below FOLDERS that use LIBRARY, a file or folder; or --remove it if none does.

    Every file is looked through, whatever it holds. Status 1 if something uses it.

    \b
    Example, in the demo's folder modding/quaywright:
      kindred mod users libraries/piers-1.2 projects
    """
    if remove:
        made = RemoveLibrary(library, folders, called, let_go)
        return carry_out(session, made.compute(session.context), **options)
    if let_go:
        raise UsageError("--let-go goes with --remove", remedy="Say --remove, too.")
    found = users_of(library, folders, names=called, progress=session.progress)
    status = 1 if found.uses else 0
    if session.json:
        return session.emit(status, **_plain(found))
    projects = len(found.projects)
    told = f"{count(projects, 'project')} {'uses' if projects == 1 else 'use'} it"
    drawing.heading(session.out, told, drawing.short(found.library))
    lines = [
        (f"    {use.project}", use.file, str(use.count), drawing.examples(use.places))
        for use in found.uses
    ]
    if lines:
        drawing.rows(session.out, ("    project", "file", "times", "where"), lines, "  r ")
    session.out.print(f"    {count(found.files_seen, 'file')} looked through", style="dim")
    drawing.findings(session.out, found.findings())
    return status


def _plain(found: Usage) -> dict[str, Any]:
    return {
        "library": found.library,
        "projects": list(found.projects),
        "uses": [
            {
                "project": use.project,
                "file": use.file,
                "count": use.count,
                "places": list(use.places),
            }
            for use in found.uses
        ],
        "files_seen": found.files_seen,
        "findings": [each.to_json() for each in found.findings()],
    }
