#!/usr/bin/env python3
"""Make the pictures of docs/screenshots by running the real commands on the demo's data.

    python3 tools/screenshots.py [NAME...] [--out DIR]

Each command runs in a terminal of its own under a virtual display of 1280x800, and is photographed
when it has ended. Needs Xvfb, xterm and ImageMagick, on Linux.
"""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
WIDTH, HEIGHT = 1280, 800
COLUMNS, ROWS = 140, 41  # that many cells of the font fill the display
NEEDED = {"Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick", "fc-list": "fontconfig"}
PACKAGES = "xvfb xterm imagemagick fontconfig fonts-dejavu-core"
LONGEST_SECONDS = 60.0

# name of the picture -> commands that go before it unseen, and the one that is seen
UPDATE = "update mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip"
MIGRATE = "migrate mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip"
FLEET = "migrate 'servers/*' downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip --fleet"
ONE_WAY = "--allow content-removed --allow content-replaced"
SHOTS: dict[str, tuple[tuple[str, ...], str]] = {
    "scan": ((), "scan"),
    "update": (('backup mossferry --note "before 2.0"',), f"{UPDATE} --yes"),
    "convert": ((), "convert mossferry --only midwinter.voyage --only settings.ini --dry-run"),
    "compare": (("convert mossferry --yes --allow-loss",), "compare mossferry@1.4 mossferry"),
    "entries": (("undo --yes", "undo --yes"), "entries"),
    "reapply": (
        tuple(f"shelf add downloads/ferryhouse-{build}.zip" for build in ("1.3", "1.4", "2.0")),
        "reapply ferryhouse release:ferryhouse@2.0 --into ferryhouse --agree --dry-run"
        ' --mine "*goods.xml:good[id=reeds].@price"',
    ),
    "mod-check": ((), "mod check broken --for 1.4"),
    "mod-swap": (
        ("mod relink quaywright/projects quaywright/libraries --yes",),
        "mod swap quaywright/projects piers-1.2 quaywright/libraries/piers-2.0/piers.parts --yes",
    ),
    "rented": (
        (
            "backup {server} --title mossferry --build 2.0",
            """restore latest --into work --yes; sed -i 's/slots="12"/slots="16"/' work/tables.xml""",
        ),
        "carry work {server} --yes",
    ),
    "handheld": (
        (
            "backup handheld --title mossferry --build 2.0",
            "restore latest --into desk --only *.pocket --yes",
            "convert desk/evening.pocket --to 2.1 --yes --allow-loss",
        ),
        "carry desk handheld --only '*.pocket' --build 2.1 --yes",
    ),
    "world-forecast": (
        ("world census game --out northbog.json",),
        "world forecast game releases/fens-2.0.zip",
    ),
    "world-transplant": (
        ("backup new",),
        "world transplant old new --yes --allow-loss",
    ),
    "migrate-plan": ((), f"{MIGRATE} --dry-run"),
    "migrate-pause": (
        (f"migrate game releases/fens-2.0.zip --yes --allow-loss {ONE_WAY}",),
        "migrate; kindred migrate --resume",
    ),
    "migrate-sign": (
        (f"{MIGRATE} --yes --allow-loss",),
        "migrate --sign 'it starts' --sign saves --by Ada",
    ),
    "preview": (
        (
            f"{UPDATE} --yes",
            "convert mossferry --yes --allow-loss",
            "shelf fetch 2.1 --index downloads/releases.json --channel preview",
        ),
        "migrate mossferry release:mossferry@2.1 --yes --allow-loss",
    ),
    "fleet": ((), f"{FLEET} --yes --allow-loss"),
    "conflict": ((), "reapply ferryhouse release:ferryhouse@2.0 --into ferryhouse"),
}
FIGURES: dict[str, tuple[tuple[str, ...], str]] = {  # drawn by a command into the file behind it
    "world-census": (
        (
            "world remap game releases/fens-2.0.zip --inert reedlight:* --remove-content oldquay:*"
            " --substitute bog:lantern=bog:oil_lantern --new-name bog:still_water=bog:stillwater"
            " --yes --allow-loss",
        ),
        "world census game --against northbog.json --out",
    ),
}
FOLDERS = {  # of the play area
    **dict.fromkeys(("reapply", "conflict"), "edits"),
    **dict.fromkeys(("mod-check", "mod-swap"), "modding"),
    **dict.fromkeys(("world-forecast", "world-census"), "fens"),
    **dict.fromkeys(("migrate-plan", "migrate-sign"), "again"),
    "migrate-pause": "fens-again",
    "preview": "later",
    "world-transplant": "fleets",
}
ANSWERS = {"conflict": ("y",)}  # typed at the prompts; the picture is taken at the next one


def main() -> int:
    """Make all pictures, or those named; return 0 if every one was made."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "names", nargs="*", metavar="NAME", help=f"of: {', '.join((*SHOTS, *FIGURES))}"
    )
    parser.add_argument("--out", default=os.path.join(ROOT, "docs", "screenshots"))
    options = parser.parse_args()
    missing = [package for program, package in NEEDED.items() if shutil.which(program) is None]
    if missing:
        print(f"Missing: {', '.join(missing)}. On Debian: apt-get install {PACKAGES}")
        return 2
    kindred = os.path.join(os.path.dirname(sys.executable), "kindred")
    if not os.path.exists(kindred):
        kindred = os.path.join(ROOT, ".venv", "bin", "kindred")
    if not os.path.exists(kindred):
        print("kindred is not installed here; run python3 bootstrap.py demo first")
        return 2
    os.makedirs(options.out, exist_ok=True)
    with ExitStack() as stack:
        scratch = stack.enter_context(tempfile.TemporaryDirectory())
        screen = stack.enter_context(display())
        environment = {
            **os.environ,
            "DISPLAY": screen,
            "KINDRED_LEDGER": "ledger",
            "COLORTERM": "truecolor",
            "PATH": os.path.dirname(kindred) + os.pathsep + os.environ["PATH"],
        }
        environment.pop("NO_COLOR", None)
        play = os.path.join(scratch, "play")
        subprocess.run([kindred, "demo", "--only-build", "--dir", play], check=True)
        make_copies(play)
        server = stack.enter_context(serve(play, environment))
        for name, (before, last) in SHOTS.items():
            folder = os.path.join(play, FOLDERS.get(name, ""))
            *unseen, seen = (each.replace("{server}", server) for each in (*before, last))
            for command in unseen:
                run_unseen(kindred, command, folder, environment)
            if not options.names or name in options.names:
                out = os.path.join(options.out, f"{name}.png")
                photograph(seen, out, folder, environment, ANSWERS.get(name, ()))
            elif name not in ANSWERS:
                run_unseen(kindred, seen, folder, environment)
        for name, (before, command) in FIGURES.items():
            for each in before:
                run_unseen(kindred, each, os.path.join(play, FOLDERS[name]), environment)
            out = os.path.join(os.path.abspath(options.out), f"{name}.png")
            if not options.names or name in options.names:
                with suppress(FileNotFoundError):
                    os.remove(out)
                run_unseen(
                    kindred,
                    f"{command} {shlex.quote(out)}",
                    os.path.join(play, FOLDERS[name]),
                    environment,
                )
                print(out)
    return 0


def run_unseen(kindred: str, command: str, folder: str, environment: dict[str, str]) -> None:
    """Run a command that only prepares the next picture."""
    args = [kindred, *shlex.split(command), *(["--json"] if "--json" not in command else [])]
    if ";" in command:  # several, seen on one picture
        args = ["sh", "-c", f"kindred {command}"]
    done = subprocess.run(args, cwd=folder, env=environment, check=False, stdout=subprocess.DEVNULL)
    if done.returncode not in (0, 1, 3, 5):  # differences, decisions and damage are no failures
        raise RuntimeError(f"kindred {command} ended with {done.returncode}")


def make_copies(play: str) -> None:
    """Copy what several pictures begin with: an install, a server, and a fleet."""
    shutil.copytree(os.path.join(play, "fens"), os.path.join(play, "fens-again"))
    for name in (
        "again/mossferry",
        "later/mossferry",
        *(f"servers/{number:02}" for number in range(1, 21)),
    ):
        shutil.copytree(os.path.join(play, "mossferry"), os.path.join(play, *name.split("/")))
    for top in ("again", "later"):
        os.symlink(os.path.join(play, "downloads"), os.path.join(play, top, "downloads"))
        for name in os.listdir(play):
            if name.endswith((".card.toml", ".layout")):
                shutil.copy(os.path.join(play, name), os.path.join(play, top))


@contextmanager
def serve(play: str, environment: dict[str, str]) -> Iterator[str]:
    """Serve the demo's rented server; give its URL, and say in the environment how to log in."""
    sys.path.insert(0, os.path.join(ROOT, "src"))
    from kindred_ledger.demo.rented_server import rented_server, write_remotes

    with rented_server(os.path.join(play, "server"), play) as (url, login):
        environment["KINDRED_REMOTES"] = os.path.join(play, "remotes.toml")
        write_remotes(environment["KINDRED_REMOTES"], url, login)
        yield url


@contextmanager
def display() -> Iterator[str]:
    """Start a virtual display on a free number and give its name."""
    reader, writer = os.pipe()
    size = f"{WIDTH}x{HEIGHT}x24"
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(writer), "-screen", "0", size, "-nolisten", "tcp", "-noreset"],
        pass_fds=(writer,),
        stderr=subprocess.DEVNULL,
    )
    os.close(writer)
    try:
        with os.fdopen(reader) as answers:
            yield f":{answers.readline().strip()}"
    finally:
        server.terminate()
        server.wait()


def photograph(
    command: str, out: str, folder: str, environment: dict[str, str], answers: tuple[str, ...] = ()
) -> None:
    """Run one command in a terminal and take a picture once it has ended, or asks what nobody answers."""
    with tempfile.TemporaryDirectory() as scratch:
        ended = os.path.join(scratch, "ended")
        script = (
            f"printf '\\033[1;32m$\\033[0m %s\\n' {shlex.quote(f'kindred {command}')}; "
            f"kindred {command}; printf '\\033[?25l'; touch {ended}; sleep 60"
        )
        if answers:
            typed = "".join(f"sleep 3; echo {shlex.quote(answer)}; " for answer in answers)
            shown = script.partition("; ")[0]
            ran = shlex.quote(f"stty cols {COLUMNS} rows {ROWS}; kindred {command}")
            typist = f"{{ {typed} sleep 3; touch {ended}; sleep 60; }}"
            script = f"{shown}; {typist} | script -qfc {ran} /dev/null"
        terminal = subprocess.Popen(
            [
                *(
                    "xterm",
                    "-fa",
                    "DejaVu Sans Mono",
                    "-fs",
                    "11",
                    "-u8",
                    "+sb",
                    "-b",
                    "6",
                    "-bw",
                    "0",
                ),
                *("-bg", "#14181c", "-fg", "#d7dbe0", "-tn", "xterm-256color"),
                *("-geometry", f"{COLUMNS}x{ROWS}+0+0", "-xrm", "XTerm*boldColors: false"),
                *("-e", "bash", "-c", script),
            ],
            cwd=folder,
            env={**environment, "LC_ALL": "C.UTF-8"},
        )
        try:
            start = time.monotonic()
            while not os.path.exists(ended):
                if time.monotonic() - start > LONGEST_SECONDS:
                    raise TimeoutError(f"kindred {command} did not end")
                time.sleep(0.1)
            time.sleep(0.7)  # the terminal draws after the program ended
            picture = ["import", "-silent", "-window", "root", "-strip", out]
            subprocess.run(picture, env=environment, check=True)
        finally:
            terminal.terminate()
            terminal.wait()
    print(out)


if __name__ == "__main__":
    sys.exit(main())
