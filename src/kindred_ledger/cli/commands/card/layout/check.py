"""kindred card layout check"""

from __future__ import annotations

import click
import msgspec

from .....finding import Severity, of_severity
from .....formats import Layout
from .....formats.layouts import check_layout
from .... import drawing
from ....options import session
from ....session import Session, file_bytes


@click.command()
@click.argument("layout_path", metavar="LAYOUT")
@click.argument("samples", nargs=-1, required=True)
@session
def command(session: Session, *, layout_path: str, samples: tuple[str, ...]) -> int:
    """Test LAYOUT on SAMPLES: read each, write it anew, compare byte for byte.

    Names the fields that no sample reached. Status 1 if something is wrong.

    \b
    Example, in the demo's folder:
      kindred card layout check voyage.layout server/voyages/long-haul.mfsv
    """
    layout = Layout.load(layout_path)
    report = check_layout(layout, ((path, file_bytes(path)) for path in samples))
    status = 0 if report.is_sound else 1
    if session.json:
        return session.emit(status, layout=layout.name, **msgspec.to_builtins(report))
    span = f"{layout.low} to {layout.high}" if layout.high > layout.low else str(layout.low)
    drawing.heading(session.out, layout.name, f"versions {span}")
    wrong = {each.where for each in of_severity(report.findings, Severity.ERROR)}
    for sample in report.samples:
        told = f"format {sample.version}, " if sample.version is not None else ""
        mark = " " if any(place.startswith(sample.name) for place in wrong) else "✓"
        text = f"{sample.name}   {told}{drawing.size(sample.size_bytes)}"
        session.out.hang(f"  {mark} ", text, style="default")
    drawing.findings(session.out, report.findings)
    if report.is_sound:
        session.out.print("    Every field of every version is reached.", style="dim")
    return status
