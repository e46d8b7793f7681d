"""`kindred`: finds the command by name and turns errors into messages and exit statuses.

Only the module of the command that was asked for is imported, and nothing else at all for
`--help`: starting a command line that is used in loops and hooks must cost almost nothing.
"""

from __future__ import annotations

import os
import sys

__all__ = ["COMMANDS", "main", "program"]

# In the order people work, in groups.
COMMANDS: dict[str, str] = {
    "scan": "which titles, installs, versions and belongings are here",
    "identify": "what a file is, which format version, by which evidence",
    "backup": "keep what a place holds under a version tag",
    "entries": "list what the ledger keeps",
    "show": "look into one entry",
    "compare": "what differs between two places, entries or releases",
    "restore": "bring an entry back, whole or in part",
    "export": "write an entry to an archive that anybody can open",
    "import": "take in a folder or archive that was kept by hand",
    "verify": "hold every byte of the ledger against its digests",
    "drill": "prove that an entry comes back, in a scratch folder",
    "mirror": "copy what another ledger lacks, or bring it from there",
    "heal": "mend damage from a mirror, or from files still on disk",
    "confirm": "say that a change turned out well",
    "retire": "thin the ledger by a policy; space comes back",
    "passphrase": "make an encrypted ledger, or change its passphrase",
    "shelf": "keep releases: what installs are compared with and brought to",
    "update": "bring an install to a new release: over the top, clean or beside",
    "assemble": "several parts into one install, or files into an archive",
    "switch": "let builds that share a data folder take turns",
    "carry": "bring saves or settings from one install to another",
    "meet": "take in what another machine did to the same data",
    "watch": "keep what changes, and say what a launcher did",
    "convert": "bring files into the formats of another build",
    "rescue": "fill what came out empty elsewhere from the older file",
    "patch": "make and apply binary patches, to the right base only",
    "route": "how data gets from one format version to another, and what is lost",
    "layout": "describe a binary format: dump a file by it, check it",
    "card": "describe a title: draft its card, check what it says",
    "history": "what was changed, when and why",
    "undo": "take a change back (or do it again)",
    "recover": "finish or unwind what was cut off",
    "demo": "try it all on a made-up game",
}
_GROUPS = (
    (
        "keep",
        ("scan", "identify", "backup", "entries", "show", "compare", "restore", "export", "import"),
    ),
    ("trust", ("verify", "drill", "mirror", "heal", "confirm", "retire", "passphrase")),
    (
        "move",
        (
            "shelf",
            "update",
            "assemble",
            "switch",
            "carry",
            "meet",
            "watch",
            "convert",
            "rescue",
            "route",
            "patch",
        ),
    ),
    ("go back", ("history", "undo", "recover")),
    ("learn", ("card", "layout", "demo")),
)
_INTERRUPTED = 4


def main(argv: list[str] | None = None) -> int:
    """Run one command; return its exit status (see DESIGN: 0 to 5)."""
    args = sys.argv[1:] if argv is None else argv
    if not args or args[0] in ("--help", "-h", "help"):
        print(_help())
        return 0 if args else 2
    if args[0] == "--version":
        from .. import __version__

        print(f"kindred {__version__}")
        return 0
    from .encoding import prepare

    prepare(sys.stdout, encoding="utf-8" if "--json" in args else None)
    prepare(sys.stderr)
    name = args[0]
    if name not in COMMANDS:
        print(_unknown(name), file=sys.stderr)
        return 2
    from .running import run

    try:
        return run(name, args[1:])
    except KeyboardInterrupt:
        print("\nStopped. What was begun was taken back, or had been finished:", file=sys.stderr)
        print("kindred history shows what was made.", file=sys.stderr)
        return _INTERRUPTED


def _help() -> str:
    lines = [
        "kindred: move saves, settings and installs between versions, with books that balance",
        "",
    ]
    for group, names in _GROUPS:
        heads = (group, *("" for _ in names[1:]))
        lines += [
            f"  {head:<9}{name:<11} {COMMANDS[name]}"
            for head, name in zip(heads, names, strict=True)
        ]
    lines += [
        "",
        "The ledger is KINDRED_LEDGER or --ledger; cards are *.card.toml here, in KINDRED_CARDS, or --card.",
        "kindred COMMAND --help tells more; writing commands ask first. New here? kindred demo",
    ]
    return "\n".join(lines)


def _unknown(name: str) -> str:
    from ..suggestions import nearest

    near = nearest(name, COMMANDS)
    meant = f"Did you mean: kindred {near}" if near else "See: kindred --help"
    return f"There is no command {name!r}. {meant}"


def program() -> None:
    """Run as a program of its own; what it leaves in memory is not tidied up first.

    Whatever matters is durable by now, and taking a hundred thousand files' nodes apart one by one
    takes as long as looking at them did.
    """
    try:
        status = main()
        sys.stdout.flush()
        sys.stderr.flush()
    except BrokenPipeError:  # the reader of our output went away, as `head` does
        status = 0
    os._exit(status)


if __name__ == "__main__":
    program()
