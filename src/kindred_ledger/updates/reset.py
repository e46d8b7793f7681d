"""Reset: settings go, so that the title starts with its own again; single values of yours may stay."""

from __future__ import annotations

from collections.abc import Sequence

from ..cards import Install, select_categories
from ..changes import Changeset, fitted
from ..errors import FormatError, KindredError, UsageError
from ..finding import Finding
from ..formats import Document, decode, format_path, likely_kinds, parse_path
from ..ledger import Ledger
from ..places import AnySelection, as_selection, check_selected, read_bytes
from ..planning.rearranged import Rearranged
from ..progress import Progress
from ..suggestions import path_meant
from ..wording import count

__all__ = ["reset_settings"]


def reset_settings(
    install: Install,
    categories: Sequence[str] = ("settings",),
    *,
    ledger: Ledger,
    only: AnySelection = None,
    keep: Sequence[str] = (),
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that removes settings, for the title to start with its own again.

    `only` chooses among the files of the `categories`. `keep` are patterns of values that stay, such as
    `Display.*`: a file that has some is left with these alone, all others go. What goes is a loss, and kept.

    Raises:
        UsageError: there is no such category or file, or no file has a value that `keep` names.
        FormatError: a file with values to keep cannot be read.

    >>> change = kl.reset_settings(install, ledger=ledger, keep=["Display.*", "General.SettingsFormat"])
    >>> [(action.path, str(action.outcome)) for action in change.actions]
    [('user/controls.json', 'removed'), ('user/settings.ini', 'changed')]
    """
    now = ledger.scan(install.place, progress=progress)
    in_categories = select_categories(install.card.categories, tuple(categories))
    chosen = as_selection(only)
    paths = [path for path in now.files if in_categories(path)]
    if chosen is not None:
        check_selected(chosen, paths)
        paths = [path for path in paths if chosen(path)]
    if not paths:
        raise UsageError(
            f"there are no files of {', '.join(categories)}", where=install.place.location
        )
    made = Rearranged(install.place, now)
    findings: list[Finding] = []
    unused = {*keep}
    known: list[str] = []
    for path in paths:
        document = _opened(install, path) if keep else None
        left: list[str] = []
        if document is not None:
            known += [format_path(leaf.path) for leaf in document.leaves()]
            left = [pattern for pattern in keep if document.find(pattern)]
        unused -= {*left}
        if document is None or not left:
            made.remove(path, "the title makes it anew")
            told = "it goes, and the title makes it anew"
        else:
            gone = _without(document, left)
            made.put(path, document.encode(), f"only what was to stay: {', '.join(left)}")
            told = f"{count(gone, 'value')} go, and the title starts with its own"
        findings.append(Finding.loss("reset", told, where=path))
    if unused:
        name = sorted(unused)[0]
        raise UsageError(f"no file has a value {name!r}", remedy=path_meant(name, known))
    return fitted(
        Changeset(
            place=install.place,
            operation="reset settings",
            summary=f"reset {', '.join(categories)}: {count(len(paths), 'file')}",
            before=now,
            actions=made.actions(),
            tag=install.tag,
            findings=tuple(findings),
        )
    )


def _opened(install: Install, path: str) -> Document | None:
    """Return what is in a file; None if nobody knows how to read it."""
    data = read_bytes(install.place, path)
    format = install.card.format_of(path)
    if format is not None:
        return format.decode(data)
    for codec in likely_kinds(path, data):
        try:
            return decode(data, codec)
        except FormatError:
            continue
    return None


def _without(document: Document, keep: Sequence[str]) -> int:
    """Remove all values but those that stay; return how many went."""
    stay = {path for pattern in keep for path in document.find(parse_path(pattern))}
    going = [
        leaf.path
        for leaf in document.leaves()
        if not any(leaf.path[: len(each)] == each for each in stay)
    ]
    for path in reversed(going):
        try:
            document.remove(path)
        except KindredError as error:
            raise error.inside(format_path(path)) from error
    return len(going)
