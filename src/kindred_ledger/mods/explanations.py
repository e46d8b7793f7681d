"""What each kind of finding about mods means: what is wrong, why it matters, what to do."""

from __future__ import annotations

from ..errors import UsageError
from ..suggestions import did_you_mean

__all__ = ["EXPLANATIONS", "explain"]

EXPLANATIONS: dict[str, str] = {
    "archive-damaged": (
        "The archive cannot be read to its end: a download that was cut short, or a disk that "
        "lost something. The game would skip it, or stop. Get the mod again and compare its size."
    ),
    "archive-in-archive": (
        "The mod holds hardly more than another archive. Somebody packed the packed file once "
        "more; the game does not look into the inner one. Unpack that one in its place."
    ),
    "archive-type": (
        "The game reads some kinds of archives, or only folders, and this is of another kind. A "
        "zip or tar is unpacked or packed anew by --fix; of other kinds, unpack it with a program "
        "that reads it."
    ),
    "built-output": (
        "Where the tools want sources, there is what building makes of them. Edits in there are "
        "lost at the next build. Put the sources there, and let building make the rest."
    ),
    "copy-hides": (
        "Two folders of mods hold a mod with the same id; the game takes the first and never "
        "looks at the other. A copy placed by hand for a test is often forgotten like this. "
        "Remove the one that is not meant."
    ),
    "core-incomplete": (
        "A mod of the core set lacks files that its release on the shelf has. Other mods fail in "
        "odd ways then. --fix takes the files from the shelf."
    ),
    "core-missing": (
        "A mod that everything else needs is not there: removed by a launcher, or never copied. "
        "Bring it back before anything else is switched on; --fix does, from the shelf or from a "
        "backup."
    ),
    "core-off": "A mod that everything else needs is there, and switched off. Switch it on first.",
    "dependency-cycle": (
        "Mods wait for one another in a circle, so there is no order in which they can load. One "
        "of them says so by mistake: ask the makers, or switch one off."
    ),
    "descriptor-broken": (
        "The file that describes the mod cannot be read: a comma too many, a missing bracket, a "
        "wrong encoding. The place is told. Put it right in an editor."
    ),
    "descriptor-missing": (
        "The mod has no file that says what it is. Often only a part was unpacked, or the "
        "download was of its sources."
    ),
    "descriptor-named": (
        "The descriptor is there under another name, mostly by large and small letters. It loads "
        "on Windows and not on Linux or a server. --fix names it right."
    ),
    "descriptor-twice": (
        "Two files could describe the mod; only the first is read, and edits in the other do "
        "nothing. --fix removes the other where both say the same."
    ),
    "file-hides": (
        "A file placed by hand stands over one of the game. After an update the old copy still "
        "counts. Remove it when it is not needed any more."
    ),
    "folder-in-folder": (
        "The mod lies in a folder inside its folder, as unpacking often leaves it. The game looks "
        "one level higher and finds nothing. --fix moves it up."
    ),
    "group-beyond-rescue": (
        "A group of fields that the card asks for is empty, and no backup in an older format has "
        "it. Either it never held anything, or it was lost before the first backup."
    ),
    "group-empty": (
        "A group of fields is empty, and an older backup, in an older format, has it: another "
        "program lost it when it converted the file. --fix fills it from there."
    ),
    "id-clash": (
        "Two mods have the same id. The game loads one of them, or none; which one may change "
        "from start to start. Remove one, or give it another id."
    ),
    "id-of-original": (
        "The mod has the id of something in the game itself, so one of them hides the other."
    ),
    "ids-alike": (
        "Two ids differ by large and small letters, or by how accents are stored. Some systems "
        "take them for one. Give one of them another id."
    ),
    "links-inside": (
        "There are links in the mod. What they lead to is not part of it, is not backed up with "
        "it, and may lead in a circle. Put the files themselves there."
    ),
    "list-damaged": (
        "A list that the card names cannot be read, so it is not known what is switched on, or "
        "which ids are the game's own. Put it right in an editor."
    ),
    "load-order": (
        "The list loads a mod before another one that it needs. --fix puts the list in order, and "
        "moves no more than that."
    ),
    "mod-empty": "Nothing is in the folder: a mod that was removed by half, or a download that failed.",
    "mod-in-mod": "Another mod lies inside this one, where the game does not look for it.",
    "mod-is-link": (
        "The mod is a link to a folder elsewhere. Links are not followed here, as they may lead "
        "anywhere."
    ),
    "mod-loose": (
        "A mod was unpacked right into the folder that mods lie in, so the game does not see it, or "
        "takes the whole folder for one mod. Make a folder for it, and move its files in there."
    ),
    "mod-unfit": (
        "By its own descriptor the mod is not for this build. It may load and damage saves. Get a "
        "newer release, or switch it off."
    ),
    "mod-unknown": (
        "The mod does not say for which builds it is, or says it in a way nobody understands. It "
        "is not counted as fitting. Ask its maker, or try it on a copy."
    ),
    "mod-update": (
        "The mod is not for this build, and a release of it that is lies on the shelf. --fix "
        "brings it."
    ),
    "mods-conflict": (
        "Two mods say that they do not work together, and both are on. Only you can choose."
    ),
    "name-differs": (
        "The folder was renamed, and the mod still calls itself by its old name. Games that look "
        "for one by the other do not find it. --fix gives the folder the name that the mod calls "
        "itself."
    ),
    "need-missing": "A mod that this one needs is not there.",
    "need-off": "A mod that this one needs is there, and switched off.",
    "need-unfit": "A mod that this one needs does not fit the build, so this one cannot work, either.",
    "need-unknown": (
        "Whether a mod that this one needs fits the build is not known, so it is not known of "
        "this one."
    ),
    "need-unread": "What the mod says it needs is not understood.",
    "need-version": (
        "A mod that this one needs is there in a version that will not do, or in one that is not "
        "told."
    ),
    "not-built": (
        "There are sources, and nothing was built from them: the game cannot load sources. Build "
        "the mod, or get it as it is released."
    ),
    "number-misplaced": (
        "A number of the descriptor stands inside another part of it, where it is not read. --fix "
        "moves it."
    ),
    "number-missing": "A number that the game asks for is not in the descriptor.",
    "number-range": (
        "A number of the descriptor is that of another build. Where it is a mere label, --fix "
        "sets it; else the mod must be converted, or a newer release found."
    ),
    "number-type": (
        "A number is written as text, in quotes, or is no whole number. Some games refuse that. "
        "--fix makes it a number where it is one."
    ),
    "on-missing": "The list switches on a mod that is not there. Most games pass over it.",
    "outputs-overlap": (
        "Two mods put files of the same name into one folder. The one that loads last counts, and "
        "a part of the other does nothing."
    ),
    "part-missing": (
        "The descriptor names a file that is not in the mod, or is there under another name. "
        "Where only large and small letters differ, --fix renames it."
    ),
    "part-outside": (
        "The descriptor names a file outside of the mod. That works on one machine only, and may "
        "be an attempt to read what is none of its business."
    ),
    "picture-large": (
        "The picture has more pixels or bytes than are taken. It is left out, or slows the list "
        "down."
    ),
    "picture-missing": "The picture that is asked for is not there.",
    "picture-not-square": "The picture is not as wide as it is high, and is cut or squeezed.",
    "picture-unread": (
        "What is in the picture does not tell its size: it may be of a kind that is not read here."
    ),
    "range-unread": (
        "For which builds the mod is made is said in a way that may mean several things. It is "
        "never guessed; until it is clear the mod does not count as fitting."
    ),
    "several-mods": (
        "One folder holds several mods, as an archive with a collection unpacks. Each must lie by "
        "itself. --fix moves each up."
    ),
    "test-copy": (
        "A copy that was placed for a test is still there, and counts instead of what is "
        "installed. Undo the change that placed it when the test is done."
    ),
    "zipped-flat": (
        "The game looks for one folder in the archive, and the files lie at its top. --fix packs "
        "it anew."
    ),
    "zipped-too-deep": (
        "In the archive the mod lies in a folder, and is looked for at the top: the folder was "
        "packed, not what is in it. --fix packs it anew."
    ),
}


def explain(code: str) -> str:
    """Return what a kind of finding about mods means.

    Raises:
        UsageError: there is no such kind.
    """
    if code not in EXPLANATIONS:
        raise UsageError(
            f"there is no finding {code!r} about mods", remedy=did_you_mean(code, EXPLANATIONS)
        )
    return EXPLANATIONS[code]
