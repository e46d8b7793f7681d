"""Which commands there are, in the order people work, with one line each; read before any is loaded.

`ledger verify` is the module `commands.ledger.verify`, and so on; a name with others below it is a group.
"""

from __future__ import annotations

__all__ = ["COMMANDS", "command_in", "groups", "help_text", "meant"]

COMMANDS: dict[str, str] = {
    "scan": "find what is installed: version, saves, settings, mods",
    "backup": "keep a copy of a folder under its version",
    "entries": "list the backups in the ledger",
    "show": "show what one backup holds",
    "compare": "list what differs between two folders, backups or releases",
    "restore": "bring a backup back, all or part of it",
    "migrate": "all of a move in its order: store, update, convert, check",
    "update": "bring an install to a new release and keep what is yours",
    "convert": "convert saves and settings to the formats of another build",
    "carry": "copy saves, settings or files to another install or server",
    "switch": "play two builds in turn with one save folder",
    "reapply": "bring your edits to the files of another release",
    "history": "list the changes that were made",
    "undo": "take the last change back",
    "redo": "make the change again that was undone last",
    "recover": "finish or take back a change that a crash cut off",
    "ledger": "check, copy, repair, export and clean up the ledger",
    "ledger verify": "check the ledger for corruption",
    "ledger drill": "test that an entry can be restored",
    "ledger mirror": "copy entries to a second ledger, or from it",
    "ledger heal": "repair damage from a mirror or from files still on disk",
    "ledger confirm": "say that a change turned out well",
    "ledger retire": "delete old entries and free space",
    "ledger passphrase": "make an encrypted ledger, or change its passphrase",
    "ledger export": "write an entry to a zip or tar that anybody can open",
    "ledger import": "make an entry of a folder or archive that was kept by hand",
    "shelf": "keep unmodified releases to update from and compare with",
    "shelf add": "put a release on the shelf",
    "shelf list": "list the releases on the shelf, or in a release index",
    "shelf fetch": "download a release, check it and put it on the shelf",
    "shelf remove": "take a release off the shelf",
    "shelf assemble": "combine the parts of a download into one install or archive",
    "edits": "keep what you changed in a file of its own, and put it onto any release",
    "edits take": "find what you changed, and write it into an edit set",
    "edits show": "list the edits of a set",
    "edits put": "bring an edit set to the files of a release",
    "edits combine": "put several edit sets together",
    "edits drop": "take edits out of a set",
    "mod": "check, trim and mend mods, packs and projects",
    "mod check": "find why a mod does not load, and mend what can be mended",
    "mod trim": "reduce a pack to what differs from the original",
    "mod relink": "find what the references of a project meant, and mend them",
    "mod users": "list the projects that still use a library, or remove it",
    "mod swap": "have projects use another version of a library",
    "mod test": "place a copy for a test, which is told until you end it",
    "mod suspects": "find which mods break the game, with the fewest starts",
    "world": "carry worlds over a build that drops content, and long games into fresh ones",
    "world forecast": "count and locate what a world would lose in another build",
    "world remap": "give a world the ids of another build, by name",
    "world reinstate": "put back content that waited for a build to have it again",
    "world census": "count what is in a world, and compare with an earlier count",
    "world baked": "list what an old save keeps of its build, and three ways on",
    "world transplant": "set what is yours in a long game into a fresh game of a new build",
    "world bundle": "set what still waits into the new game",
    "world started": "see whether the new game was started, and still has everything",
    "world helper": "go on with content that must stay for a run before and after an update",
    "file": "identify, dump, edit, patch and rescue single files",
    "file identify": "say what a file is, and which format version it has",
    "file dump": "print every field of a binary file with its offset",
    "file table": "edit a table of a file in a spreadsheet: to CSV, and back",
    "file patch": "make and apply binary patches",
    "file patch make": "make a patch set from old and new files",
    "file patch apply": "apply a patch set to the file it was made for",
    "file patch identify": "say whether a patch set fits a file",
    "file rescue": "restore fields that another converter lost",
    "card": "describe a title: draft its card and check it",
    "card new": "draft a card from an install",
    "card check": "try all conversions of a card on sample files",
    "card route": "show how a format converts between versions, and what is lost",
    "card learn": "draft a runbook from a move that was done by hand",
    "card symptoms": "list what helps against something odd, and try it",
    "card layout": "describe a binary format",
    "card layout check": "test a layout on sample files",
    "card layout draft": "propose a layout from sample files",
    "sync": "keep two machines in step; watch an install",
    "sync meet": "merge another machine's changes",
    "sync watch": "back up whenever files change, and say what changed",
    "demo": "try everything on a made-up game",
}
_COLUMNS = 81  # that the help of the whole takes
_SECTIONS = (
    ("keep", ("scan", "backup", "entries", "show", "compare", "restore")),
    ("move", ("migrate", "update", "convert", "carry", "switch", "reapply")),
    ("go back", ("history", "undo", "redo", "recover")),
    ("more", ("ledger", "shelf", "edits", "mod", "world", "file", "card", "sync", "demo")),
)

_HELP_END = (
    "Start with: kindred backup FOLDER. To try it on a made-up game: kindred demo",
    "More about a command: kindred help COMMAND. Alone, kindred says what to do next.",
)


def help_text(columns: int = 80) -> str:
    """Return the help of the whole: one screen. On fewer columns than it needs its lines are folded."""
    narrow = columns < _COLUMNS
    lines = [
        "Usage: kindred COMMAND [ARGUMENTS]",
        "",
        "Move saves, settings and installs between versions; every change can be undone.",
        "",
    ]
    for section, names in _SECTIONS:
        heads = (section, *("" for _ in names[1:]))
        lines += [section] if narrow else []
        lines += [
            f"  {'' if narrow else f'{head:<9}'}{name:<9} {COMMANDS[name]}"
            for head, name in zip(heads, names, strict=True)
        ]
    lines += ["", *_HELP_END]
    if narrow:
        from textwrap import fill

        lines = [
            fill(line, columns, subsequent_indent=" " * (12 if line.startswith(" ") else 4))
            for line in lines
        ]
    return "\n".join(lines)


def groups() -> set[str]:
    """Return the names that have commands below them."""
    return {name.rpartition(" ")[0] for name in COMMANDS} - {""}


def command_in(words: list[str]) -> str:
    """Return the command that arguments name; "" if they name none."""
    name = ""
    for word in words:
        longer = f"{name} {word}".strip()
        if longer in COMMANDS:
            name = longer
        elif name:
            break
    return name


def meant(words: str) -> str:
    """Return the command that somebody may have meant: one of that last word, or one written alike."""
    from ..suggestions import nearest

    last = words.rpartition(" ")[2]
    by_last = [name for name in COMMANDS if name.rpartition(" ")[2] == last]
    return by_last[0] if by_last else nearest(words, COMMANDS)
