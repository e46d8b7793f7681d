"""What each option means: one meaning a name, the same words in every command that has it.

docs/options.md shows this table; a test holds the two against each other.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click

__all__ = ["MEANINGS", "flag", "many", "value"]

Decorator = Callable[[Callable[..., Any]], Callable[..., Any]]

# The option: what its value is, "" for none; what it does.
MEANINGS: dict[str, tuple[str, str]] = {
    "--also": ("KIND:NAME", "Take these things, too, whatever the card says; * is any text."),
    "--agree": ("", "Also set counts and the like as the card says they must agree."),
    "--against": ("WHAT", "An earlier census (.json), an entry or an install to compare with."),
    "--agreed": ("ID", "The forecast that you saw, and agree to with these choices."),
    "--allow": ("CODE[:PATTERN]", "Allow losses of one kind, everywhere or in matching files."),
    "--allow-loss": ("", "Allow the losses that are shown."),
    "--anyway": ("", "It is the same world, although most places hold something else by now."),
    "--as-stored": ("", "Back to this older build, with the data it had when it was stored."),
    "--at": ("FOLDER", "The folder inside the target the parts go to."),
    "--back": ("", "Take back what was begun, instead of finishing it."),
    "--begin": ("empty|along", "What a build starts with that was never used here."),
    "--beside": ("", "Leave the old untouched and put the result beside it."),
    "--books": ("", "Show the books in two columns."),
    "--both": ("PATTERN", "Where both sides differ keep both: what arrives gets another name."),
    "--bring": ("", "The other way: bring from OTHER what is missing here."),
    "--breaks": ("", "With the mods of this trial it breaks."),
    "--build": ("VERSION", "Its build, if its files do not say."),
    "--by": ("NAME", "Who it is by, if not you."),
    "--by-hand": ("FOLDER", "List what to download, and check what is in this folder already."),
    "--called": ("NAME", "What projects call it, if not by the name of its file or folder."),
    "--card": ("FILE", "The card that describes the title."),
    "--category": ("NAME", "Only this category of the card, such as saves."),
    "--chapter": ("NAME", "Only this chapter of the story."),
    "--channel": ("NAME", "The release channel: stable, preview, or what the index calls it."),
    "--checked": ("", "Only if its result is still in place and the state before can be restored."),
    "--choose": ("OLD=NEW", "What a reference, or the folder it begins with, shall be."),
    "--clean": ("", "Only the release and your keep-list; everything else goes."),
    "--component": ("PART", "Only this part of the title."),
    "--components": ("", "Search among the optional components, too."),
    "--confirmed-after": ("DAYS", "Changes this old count as confirmed."),
    "--consent": ("FILE", "What becomes of content, and what you agreed to, in a file."),
    "--core": ("ID", "A mod without which nothing else works."),
    "--covers": (
        "FOLDER[=FOLDER]",
        "The folder of the title that the pack, or one of its folders, stands for.",
    ),
    "--daily": ("N", "Keep the last entry of each of N days."),
    "--date": ("DATE", "When it came out: 2026-05-28."),
    "--digests": ("", "Store digests, and contents only where merging needs them."),
    "--dir": ("FOLDER", "Where to play."),
    "--disposable": ("", "Back up logs, caches and such files, too."),
    "--drop": ("PATTERN", "Take out matching files."),
    "--done": ("STEP", "You did what this step asks for."),
    "--dry-run": ("", "Show what would be done and stop."),
    "--end": ("", "End the search, and put all back as it was."),
    "--exact": ("", "Delete files of the target that the source does not have."),
    "--exclude": ("PATTERN", "Leave out paths that match."),
    "--explain": ("CODE", "Explain a kind of finding, and stop."),
    "--field": ("PATTERN", "Show only the fields that match."),
    "--files": ("", "List every file."),
    "--first": ("PATTERN", "Where parts differ take the file of the first part."),
    "--fix": ("", "Mend what can be mended safely."),
    "--fleet": ("", "INSTALL names many: a pattern, or a file with a folder a line."),
    "--folder": ("NAME=PATH", "Where a location of the card is."),
    "--follow": ("", "Edit the record that is like one that has another name now."),
    "--for": ("BUILD", "The build that the mods shall work with."),
    "--fresh": ("NAME", "The fresh save of the new game, if there are several."),
    "--from": ("FILE", "The CSV file with the edited rows."),
    "--from-format": ("N", "The format version to convert from, if the files do not say."),
    "--group": ("FIELD", "Look at these fields instead of those the card requires."),
    "--guard": ("", "Take changes of the program back; saves stay."),
    "--holding": ("PATH", "Only the parts that hold this file (with --into or --by-hand)."),
    "--index": ("INDEX", "A release index: its URL or file."),
    "--inert": ("NAME", "Content that keeps its place until a later build has it again."),
    "--into": ("PLACE", "Where the result goes: a folder, new or not, or an archive."),
    "--json": ("", "Print one JSON object."),
    "--landmark": (
        "CONTENT@X,Z",
        "Something to look for in the world; ! in front: it must be gone.",
    ),
    "--keep": ("PATTERN", "Keep matching files as they are."),
    "--last": ("N", "Keep the last N entries of each place."),
    "--layout": ("FILE", "The layout that describes the format."),
    "--leave": ("PATTERN", "Leave matching files as they are if they cannot be converted."),
    "--ledger": ("WHERE", "The ledger: a folder or URL (or set KINDRED_LEDGER)."),
    "--let-go": ("PROJECT", "A project that may be left without it."),
    "--lines": ("", "List every file and field."),
    "--lists-of": ("RELEASE", "What has the id list that the world was saved with."),
    "--look": ("PLACE", "Look for lost contents here, instead of where entries came from."),
    "--merge": ("PATTERN", "Merge matching settings key by key; your values count."),
    "--mine": ("PATTERN[:FIELD]", "Keep yours where both sides changed it."),
    "--mirror": ("LEDGER", "A mirror to take files from."),
    "--monthly": ("N", "Keep the last entry of each of N months."),
    "--name": ("NAME", "What the result is called."),
    "--new-name": ("OLD=NEW", "What content is called by now."),
    "--note": ("TEXT", "A note to remember it by."),
    "--old": ("RELEASE", "The unmodified release it was made from."),
    "--only": ("PATTERN", "Only paths that match."),
    "--only-build": ("", "Make the play area and stop."),
    "--out": ("FILE", "The file to write; one that is there already is not replaced."),
    "--overwrite": ("PATTERN", "Overwrite matching files of the target."),
    "--part": ("", "It holds only some files: what is missing was not removed."),
    "--per-version": ("", "Keep the last entry of each version of each place."),
    "--pin": ("", "Never delete this entry."),
    "--pixels": ("", "Compare pictures by what they show."),
    "--played": ("", "Set things into a game that was played already, too."),
    "--placed": ("", "You placed the helper yourself; it stays at the end."),
    "--platform": ("NAME", "The platform the release is for."),
    "--prefer": ("mine|theirs", "Whose change counts where both changed the same."),
    "--prefer-set": ("SET", "The edit set that counts where two clash."),
    "--prove": ("", "Convert there and back, list what does not come back, and stop."),
    "--quick": ("", "Do not pause between the chapters."),
    "--quiet": ("SECONDS", "How long files must stay unchanged before they are backed up."),
    "--remove": ("", "Remove it, if no project uses it any more."),
    "--remove-content": ("NAME", "Content to remove, by name or a pattern such as mod:*."),
    "--renamed": ("NEW=OLD", "What a field is called in the older file."),
    "--rehearse": ("", "Do all of it on a scratch copy, and report."),
    "--resolutions": ("FILE", "Decide by this file; open conflicts are written into it."),
    "--result": ("NAME[=PATH]", "A result of the patch set, by its name."),
    "--resume": ("", "Go on with what was begun."),
    "--retired": ("", "List deleted entries instead."),
    "--rows": ("N", "How many rows of a table to show; 0 shows all."),
    "--scratch": ("FOLDER", "A folder with room to restore to."),
    "--second-names": ("", "Restore files whose names differ only in case under other names."),
    "--serve": ("", "Run the servers of the play area until you stop them."),
    "--share": ("PERCENT", "Check only this share of the packs: those not checked for longest."),
    "--runbook": ("NAME", "The runbook of the card, also one for other builds; usual: none of it."),
    "--save": ("NAME", "The save that is meant, if there are several."),
    "--sign": ("PART", "Sign off a part that you looked at."),
    "--skip": ("STEP", "Go on without what a person does, by the name of the step."),
    "--stay": ("", "Take nothing back when a check finds something wrong."),
    "--substitute": ("OLD=NEW", "Content that stands for content that goes."),
    "--target": ("RELEASE", "The release that it shall work with."),
    "--theirs": ("PATTERN[:FIELD]", "Take theirs where both sides changed it."),
    "--timeout": ("SECONDS", "How long a server may send nothing."),
    "--times": ("N", "Stop after this many events."),
    "--title": ("TITLE", "The title (game or tool) it belongs to."),
    "--to": ("BUILD", "Convert to the formats of this build."),
    "--to-step": ("STEP", "Only back to before this step (with --back)."),
    "--to-format": ("N", "The format version to convert to."),
    "--unclear": ("", "Whether it breaks with the mods of this trial could not be seen."),
    "--try": ("N", "Carry out the remedy of this number."),
    "--user-id": ("NAME=ID", "User ID, if there are several."),
    "--variant": ("NAME", "The variant of the title."),
    "--weekly": ("N", "Keep the last entry of each of N weeks."),
    "--while-running": ("", "Go ahead although the game, or another program, runs."),
    "--whole": ("", "It is a whole copy: what is missing was removed."),
    "--with": ("PART", "An optional part of the title, too."),
    "--workers": ("N", "How many processes work (default: as many as needed)."),
    "--without": ("KIND:NAME", "Leave these things out; * is any text."),
    "--works": ("", "With the mods of this trial it works."),
    "--world": ("NAME", "The world that is meant, if there are several."),
    "--written-by": ("BUILD", "The build that wrote what is in the folder now (first time only)."),
    "--yes": ("", "Do not ask."),
}


def flag(name: str, parameter: str = "") -> Decorator:
    """Return an option that is said or not."""
    return click.option(name, *filter(None, (parameter,)), is_flag=True, help=MEANINGS[name][1])


def value(name: str, parameter: str = "", *, default: Any = "", **more: Any) -> Decorator:
    """Return an option with a value."""
    metavar, told = MEANINGS[name]
    names = (name, *filter(None, (parameter,)))
    return click.option(*names, default=default, metavar=metavar, help=told, **more)


def many(name: str, parameter: str = "", **more: Any) -> Decorator:
    """Return an option that may be said several times, each time with a value."""
    metavar, told = MEANINGS[name]
    names = (name, *filter(None, (parameter,)))
    told = f"{told.removesuffix('.')} (repeatable)."
    return click.option(*names, multiple=True, metavar=metavar, help=told, **more)
