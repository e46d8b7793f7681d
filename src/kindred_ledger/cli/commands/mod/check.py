"""kindred mod check"""

from __future__ import annotations

from typing import Any

import click
from msgspec.structs import replace

from ....cards.mods import Fit, Mod, ModVerdict, summary
from ....finding import Severity
from ....mods import ModCheck
from ....mods.explanations import explain
from ....mods.operations import CheckMods
from ....wording import count
from ... import drawing
from ...applying import carry_out
from ...meanings import flag, many, value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("what", default=".")
@value("--for", "build_for")
@many("--core")
@flag("--fix")
@value("--explain", "code")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    what: str,
    build_for: str,
    core: tuple[str, ...],
    fix: bool,
    code: str,
    **options: Any,
) -> int:
    """Find why mods do not load: those of an install, of a folder of mods, or one mod.

    Looks at their folders, descriptors, numbers and ids, whether they fit the build, and in which order they
    load. --fix mends what can be mended without losing anything. Status 1 if something is wrong.

    \b
    Examples, in the demo's folder:
      kindred mod check modding/broken --card modding/boathouse.card.toml --for 1.4
      kindred mod check modding/boathouse --card modding/boathouse.card.toml --for 2.0
      kindred mod check --explain folder-in-folder
    """
    if code:
        return _explained(session, code)
    made = CheckMods(what, build_for, core, session.named_title)
    if fix:
        return carry_out(session, made.compute(session.context), **options)
    found = made.check(session.context, with_ledger=session.known_ledger() is not None)
    wrong = any(each.severity is not Severity.NOTE for each in found.findings)
    if session.json:
        return session.emit(1 if wrong else 0, **_plain(found))
    _draw(session, found)
    return 1 if wrong else 0


def _explained(session: Session, code: str) -> int:
    told = explain(code)
    if session.json:
        return session.emit(explained={code: told})
    drawing.heading(session.out, code)
    session.out.hang("    ", told, style="default")
    return 0


def _draw(session: Session, found: ModCheck) -> None:
    where = drawing.short(found.modded.place.location)
    fits = {fit.mod.path: fit for fit in found.compatibility.fits} if found.compatibility else {}
    head = summary(found.compatibility) if found.compatibility else count(len(found.mods), "mod")
    drawing.heading(session.out, head, where)
    broken = {each.where for each in found.findings if each.severity is Severity.ERROR}
    lines = [_line(mod, fits.get(mod.path), broken) for mod in found.mods]
    columns = ("    mod", "version", "for", "verdict") if fits else ("    mod", "version")
    drawing.rows(session.out, columns, [line[: len(columns)] for line in lines])
    session.out.print()
    drawing.findings(
        session.out,
        [
            replace(each, remedy=f"--fix: {each.fix}") if each.fix else each
            for each in found.findings
        ],
    )
    order = found.compatibility.order if found.compatibility else ()
    if order:
        session.out.print()
        session.out.hang("  In the order of loading: ", ", ".join(order), style="dim")
    fixable = len(found.fixable)
    if fixable:
        told = f"{count(fixable, 'fault')} can be mended safely: kindred mod check … --fix"
        session.out.print(f"\n{told}", style="bold")


def _line(mod: Mod, fit: Fit | None, broken: set[str]) -> tuple[str, ...]:
    verdict = ""
    if fit is not None:
        verdict = fit.verdict.value if fit.is_on else f"{fit.verdict.value} (off)"
        if fit.verdict is ModVerdict.KEEP and mod.path in broken:
            verdict += ", once mended"
    builds = str(mod.builds) if mod.builds is not None else "?"
    return (f"    {mod}", mod.version, builds, verdict)


def _plain(found: ModCheck) -> dict[str, Any]:
    judged = found.compatibility
    return {
        "place": found.modded.place.location,
        "build": found.build.text if found.build is not None else None,
        "mods": [
            {
                "path": mod.path,
                "kind": mod.kind,
                "id": mod.id,
                "name": mod.name,
                "version": mod.version,
                "builds": str(mod.builds) if mod.builds is not None else None,
                "needs": [str(link) for link in mod.needs],
                "packed": mod.packed,
                "descriptor": mod.descriptor,
                "fault": mod.fault,
            }
            for mod in found.mods
        ],
        "fits": [
            {
                "path": fit.mod.path,
                "id": fit.mod.id,
                "verdict": fit.verdict.value,
                "why": fit.why,
                "release": fit.release,
                "is_on": fit.is_on,
            }
            for fit in (judged.fits if judged else ())
        ],
        "order": list(judged.order if judged else ()),
        "findings": [each.to_json() for each in found.findings],
    }
