"""The story: from build 1.4 to 2.0 and back, told by running the real commands.

Each command is printed as it can be typed again. What a command must end with is checked, so the
story is also a test of the whole.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from importlib.util import find_spec

from ..suggestions import did_you_mean
from .moving import build_moving
from .play_area import build_play_area
from .release_server import release_server
from .rented_server import rented_server, write_remotes

__all__ = ["CHAPTERS", "Story", "tell"]

_WAITS, _FAILED = 3, 4
_MOST_STARTS = 30
_PARTS = ("it starts", "saves", "settings", "mods")


class _Broken(Exception):
    """A command did not end as the story says."""


def tell(
    folder: str, *, quick: bool = False, only_build: bool = False, chapters: Sequence[str] = ()
) -> int:
    """Build the play area in `folder` and tell the story there, or some chapters; return an exit status."""
    where = os.path.abspath(folder)
    for name in chapters:
        if name not in CHAPTERS:
            near = did_you_mean(name, CHAPTERS)
            print(f"There is no chapter {name!r}. {near}", file=sys.stderr)
            return 2
    try:
        build_play_area(where)
    except FileExistsError:
        print(f"{where} is not empty.\nDelete it, or choose another with --dir.", file=sys.stderr)
        return 2
    print(f"The play area is in {where}")
    if only_build:
        return 0
    try:
        Story(where, pause=not quick and sys.stdin.isatty() and sys.stdout.isatty()).run(chapters)
    except _Broken as fault:
        print(f"\nThe story broke: {fault}", file=sys.stderr)
        return _FAILED
    return 0


class Story:
    """The story in a play area; chapters are told by `run`."""

    def __init__(self, where: str, *, pause: bool) -> None:
        self._where = where
        self._pause = pause
        self._bold = sys.stdout.isatty()
        self._folder = ""  # below the play area, where commands run
        self.environment = {**os.environ, "KINDRED_LEDGER": os.path.join(where, "ledger")}

    def run(self, chapters: Sequence[str] = ()) -> None:
        self._say("To type the commands again yourself:")
        setting = "set" if os.name == "nt" else "export"
        ledger = self.environment["KINDRED_LEDGER"]
        print(
            f"    cd {shlex.quote(self._where)}\n    {setting} KINDRED_LEDGER={shlex.quote(ledger)}"
        )
        for name, steps in CHAPTERS.items():
            if not chapters or name in chapters:
                for step in steps:
                    step(self)
        self._say(
            "That was it. Everything is still there; look around with kindred entries and history."
        )

    def _look_and_keep(self) -> None:
        self._chapter(
            "1. What is here?",
            "Two installs: yours of 1.4, with saves, settings and a mod, and a fresh one of 2.0.",
        )
        self._kindred("scan")
        self._chapter("2. Keep it first.", "A backup, tagged with the version that was found.")
        self._kindred("backup", "mossferry", "--note", "before 2.0")

    def _fail_and_recover(self) -> None:
        self._chapter(
            "3. Update, with the game left open.",
            "It still runs behind another window and writes to its chart cache.",
        )
        with self.game_left_open():
            self._kindred(*_UPDATE, "--yes", status=3)
            self._say("And if somebody insists? Half-way the update is disturbed, and taken back.")
            self._kindred(*_UPDATE, "--yes", "--while-running", status=4)
        self._say(
            "The game is closed now. Was anything harmed? Compare the backup with the install:"
        )
        self._kindred("compare", "latest", "mossferry")
        self._game()

    def _update_and_convert(self) -> None:
        self._chapter(
            "4. Update again.",
            "The settings, saves and the mod stay; the tides you had "
            "changed yourself stay too, and what only 1.4 had goes.",
        )
        self._kindred(*_UPDATE, "--yes")
        self._say("The program is 2.0 now, but 2.0 does not read what 1.4 wrote:")
        self._game(status=1)
        self._chapter(
            "5. Convert saves and settings.",
            "Every field is accounted for. Two kinds of "
            "fields have no place in 2.0; that is shown, and needs consent.",
        )
        self._kindred("convert", "mossferry", "--yes", status=3)
        self._say("Looked at, and agreed to:")
        self._kindred("convert", "mossferry", "--yes", "--allow-loss")
        self._say("What does the game say?")
        self._game()
        self._kindred("compare", "mossferry@1.4", "mossferry", status=1)

    def _back_and_forth(self) -> None:
        self._chapter("6. Back to 1.4.", "Two changes were made; they are taken back in turn.")
        self._kindred("history")
        for _ in range(2):
            self._kindred("undo", "--yes")
        self._game()
        self._chapter("7. And forward again.", "What was undone can be made again, one by one.")
        for _ in range(2):
            self._kindred("redo", "--yes")
        self._game()
        self._kindred("entries")

    def _releases(self) -> None:
        self._chapter(
            "8. Releases from the net.",
            "The makers' server, simulated on this machine (kindred demo --serve runs it, too). With "
            "the release on the shelf, it is known what of an install is an edit.",
        )
        with release_server() as url:
            self._kindred("shelf", "list", "--index", url)
            self._kindred("shelf", "fetch", "2.0", "--index", url)
            self._kindred("scan", "mossferry")
            self._say("2.1 is a preview so far. That is said, and not taken unasked:")
            self._kindred("shelf", "fetch", "2.1", "--index", url, status=3)
            self._kindred("shelf", "fetch", "2.1", "--index", url, "--channel", "preview")
        self._say("So it shall stand beside the other for an evening:")
        beside = ("update", "second/mossferry", "release:mossferry@2.1", "--beside", "--yes")
        self._kindred(*beside)
        self._game("second/mossferry-2.1")
        self._kindred("undo", "--yes")

    def _rented(self) -> None:
        self._chapter(
            "9. A rented server.",
            "It runs Mossferry for friends, and is reached by FTP over TLS: simulated on this machine, too.",
        )
        if find_spec("pyftpdlib") is None or find_spec("OpenSSL") is None:
            self._say("It needs: pip install 'kindred-ledger[demo]'. The story goes on without it.")
            return
        tables = os.path.join(self._where, "work", "tables.xml")
        with rented_server(os.path.join(self._where, "server"), self._where) as (url, login):
            known = os.path.join(self._where, "remotes.toml")
            write_remotes(known, url, login)
            self.environment["KINDRED_REMOTES"] = known
            self._print_command("export KINDRED_REMOTES=remotes.toml")
            self._kindred("backup", url, "--title", "mossferry", "--build", "2.0")
            self._kindred("restore", "latest", "--into", "work", "--yes")
            with open(tables, "rb") as file:
                text = file.read()
            with open(tables, "wb") as file:
                file.write(text.replace(b'slots="12"', b'slots="16"'))
            self._say(
                "There shall be room for sixteen: one number in tables.xml was edited. What is sent?"
            )
            self._kindred("carry", "work", url, "--yes")
            self._kindred("compare", "work", url)
            self._print_command("python server/mossferry_server.py")
            server = os.path.join(self._where, "server", "mossferry_server.py")
            self._run([sys.executable, server], 0)
            self._say("And back to twelve:")
            self._kindred("undo", "--yes")

    def _handheld(self) -> None:
        self._chapter(
            "10. A handheld.",
            "It plays 2.1 since today; its card is in the slot, in the folder handheld. The live file comes "
            "to the desk, into the format of 2.1, and goes back; nothing else on the card is touched.",
        )
        self._kindred("backup", "handheld", "--title", "mossferry", "--build", "2.0")
        self._kindred("restore", "latest", "--into", "desk", "--only", "*.pocket", "--yes")
        self._kindred("convert", "desk/evening.pocket", "--to", "2.1", "--yes", "--allow-loss")
        carry = ("carry", "desk", "handheld", "--only", "*.pocket", "--yes")
        self._kindred(*carry, status=3)
        self._say("What is kept of the card is of 2.0, which would not read it. It is 2.1 now:")
        self._kindred(*carry, "--build", "2.1")
        self._kindred("undo", "--yes")

    def _ferry_house(self) -> None:
        self._chapter(
            "11. Edits that nobody wrote down.",
            "The ferry house of a server, 1.3, whose owner edited its tables for months. 1.4 was "
            "skipped; 2.0 has another format. What was edited is found, and put onto 2.0.",
        )
        with self._in("edits"):
            for build in ("1.3", "2.0"):
                self._kindred("shelf", "add", f"downloads/ferryhouse-{build}.zip")
            self._kindred("edits", "take", "ferryhouse", "--out", "mine.edits.toml")
            self._kindred("edits", "show", "mine.edits.toml")
            asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "ferryhouse")
            self._kindred(*asked, "--dry-run", status=3)
            self._say(
                "Both changed the price of reeds. It stays mine, and the number of quays shall agree:"
            )
            decided = ("--mine", "*goods.xml:good[id=reeds].@price", "--agree")
            self._kindred(*asked, *decided, "--yes", "--allow", "comment-lost")
            self._print_command("python ferryhouse/ferryhouse.py")
            self._run([sys.executable, os.path.join("ferryhouse", "ferryhouse.py")], 0)
            self._kindred("undo", "--yes")

    def _mods(self) -> None:
        self._chapter(
            "12. Mods that do not load.",
            "Boathouse loads mods. These were placed by hand, and broken in seven ways.",
        )
        with self._in("modding"):
            boathouse = os.path.join("boathouse", "boathouse.py")
            self._print_command("python boathouse/boathouse.py --all broken")
            self._run([sys.executable, boathouse, "--all", "broken"], 1)
            self._kindred("mod", "check", "broken", "--for", "1.4", status=1)
            self._kindred("mod", "check", "broken", "--for", "1.4", "--fix", "--yes")
            self._print_command("python boathouse/boathouse.py --all broken")
            self._run([sys.executable, boathouse, "--all", "broken"], 0)
            self._say("A pack of 200 files, most of them old originals. What of it is its own?")
            original = "../downloads/mossferry-1.4.zip"
            self._kindred("mod", "trim", "packs/dusk", original, "--into", "dusk.zip", "--yes")
            for _ in range(2):
                self._kindred("undo", "--yes")

    def _project(self) -> None:
        self._chapter(
            "13. Projects, and a library of parts that moved.",
            "Quaywright builds routes from libraries of parts. These projects name folders that are gone.",
        )
        with self._in("modding"):
            projects = "quaywright/projects"
            self._kindred("mod", "relink", projects, "quaywright/libraries", "--yes")
            self._say("And a newer version of the library:")
            new = "quaywright/libraries/piers-2.0/piers.parts"
            self._kindred("mod", "swap", projects, "piers-1.2", new, "--yes")
            routes = [f"{projects}/{name}/{name}.route" for name in ("delta", "mill", "old-quay")]
            self._print_command(f"python quaywright/quaywright.py {' '.join(routes)}")
            self._run([sys.executable, os.path.join("quaywright", "quaywright.py"), *routes], 0)
            for _ in range(2):
                self._kindred("undo", "--yes")

    def _worlds(self) -> None:
        self._chapter(
            "14. A world over a build that drops content.",
            "The Fens: a world of 300 regions. 2.0 numbers everything anew, and drops two mods.",
        )
        with self._in("fens"):
            new, newer = "releases/fens-2.0.zip", "releases/fens-2.1.zip"
            fens = os.path.join("game", "fens.py")
            self._kindred("world", "census", "game", "--out", "before.json")
            self._kindred("world", "forecast", "game", new, status=1)
            self._say(
                "What becomes of it? The bells and lamps wait for a later build; the quays go."
            )
            choices = (
                "--inert", "reedlight:*", "--remove-content", "oldquay:*",
                "--substitute", "bog:lantern=bog:oil_lantern",
                "--new-name", "bog:still_water=bog:stillwater",
            )  # fmt: skip
            self._kindred("world", "remap", "game", new, *choices, "--yes", "--allow-loss")
            self._say("Bellkeeper must run once before the update, and once after it:")
            helper = ("world", "helper", "game", "bellkeeper")
            self._kindred(*helper, "helpers/bellkeeper", "--yes")
            self._print_command("python game/fens.py --play")
            self._run([sys.executable, fens, "--play"], 0)
            self._kindred(*helper, status=3)
            self._kindred("update", "game", new, "--yes")
            self._kindred(*helper, status=3)
            self._print_command("python game/fens.py --play")
            self._run([sys.executable, fens, "--play"], 0)
            self._kindred(*helper, "--yes")
            self._print_command("python game/fens.py")
            self._run([sys.executable, fens], 0)
            self._kindred("world", "census", "game", "--against", "before.json", status=1)
            self._say("2.1 has the bells again. What waited is put back where it was:")
            self._kindred("world", "remap", "game", newer, "--yes")
            self._kindred("update", "game", newer, "--yes")
            self._kindred("world", "reinstate", "game", "--yes")
            self._print_command("python game/fens.py")
            self._run([sys.executable, fens], 0)
            for _ in range(7):
                self._kindred("undo", "--yes", "--allow-loss")

    def _long_games(self) -> None:
        self._chapter(
            "15. A long game in a new world.",
            "Fleets: seven years, 2,000 ferries, 40,000 hands and items. The old world is in the save.",
        )
        with self._in("fleets"):
            self._kindred("world", "baked", "old", "new", status=1)
            self._say(
                "What is yours moves into a fresh game of 2.1. Two ferries at sea and a hand ashore wait."
            )
            self._kindred("world", "transplant", "old", "new", "--yes", "--allow-loss")
            self._program("fleets", "new")
            self._kindred("world", "started", "new", status=3)
            self._program("fleets", "new", "--play", "long.fleet")
            self._kindred("world", "started", "new")
            self._say("A day was played. What waited is set in, and the links to it are mended:")
            self._kindred("world", "bundle", "new", "--save", "long", "--yes", "--allow-loss")
            self._program("fleets", "new")
            self._say("And into the variant Night Fleets, which takes games and gives none back:")
            self._kindred("world", "transplant", "old", "night", "--yes", "--allow-loss")
            self._program("nightfleets", "night")
            self._kindred("world", "transplant", "night", "new", "--name", "back", status=2)
            for _ in range(3):
                self._kindred("undo", "--yes", "--allow-loss")

    def _whole_move(self) -> None:
        self._chapter(
            "16. The whole move, as one.",
            "An install of 1.4 of its own. What would be done? Then all of it, on a copy; then for real.",
        )
        with self._in(self._moving()):
            new, old = "../downloads/mossferry-2.0.zip", "../downloads/mossferry-1.4.zip"
            args = ("migrate", "mossferry", new, "--old", old)
            self._kindred(*args, "--dry-run", status=3)
            self._kindred(*args, "--rehearse", "--allow-loss")
            self._kindred(*args, "--yes", "--allow-loss", status=3)
            self._say("It waits for you: start it, look at what is yours, and sign it off.")
            self._game()
            self._kindred("migrate", "--sign", "it starts", "--sign", "saves", status=3)
            self._kindred("migrate", "--sign", "settings", "--sign", "mods", "--by", "Ada")

    def _failed_preview(self) -> None:
        self._chapter(
            "17. A preview that fails, and the way back.",
            "2.1 is a preview. It asks once what you risk, and first proves that you can go back.",
        )
        with self._in(self._moving()):
            if not self._is_build("2.0"):
                self._kindred("update", "mossferry", "../downloads/mossferry-2.0.zip", "--yes")
                self._kindred("convert", "mossferry", "--yes", "--allow-loss")
            fetch = ("shelf", "fetch", "2.1", "--index", "../downloads/releases.json")
            self._kindred(*fetch, "--channel", "preview")
            args = ("migrate", "mossferry", "release:mossferry@2.1", "--yes", "--allow-loss")
            self._kindred(*args, status=3)
            self._say("Agreed to, by its name:")
            self._kindred(*args, "--allow", "preview", status=3)
            self._game()
            self._say("It runs, but the chimes ring all night. So back, program and saves as one:")
            self._kindred("migrate", "--back", "--yes")
            self._game()

    def _fleet(self) -> None:
        self._chapter(
            "18. Twenty servers.",
            "Each has its own players and its own state. One command moves all of them, each with its books.",
        )
        with self._in(self._moving()):
            args = ("migrate", "servers/*", "../downloads/mossferry-2.0.zip", "--fleet")
            self._kindred(
                *args, "--old", "../downloads/mossferry-1.4.zip", "--yes", "--allow-loss", status=3
            )
            self._game("servers/07", name="mossferry")
            signed = [word for part in _PARTS for word in ("--sign", part)]
            self._kindred("migrate", "servers/*", "--fleet", *signed, "--yes")

    def _suspects(self) -> None:
        self._chapter(
            "19. Which mods break it?",
            "Eleven mods, and two of them do not get on. Who starts the game says each time what came of it.",
        )
        with self._in("modding"):
            args = ["mod", "suspects", "boathouse"]
            status = self._kindred_any(*args, "--yes")
            for _ in range(_MOST_STARTS):
                if status != _WAITS:
                    break
                status = self._kindred_any(*args, "--breaks" if self._clash() else "--works")
            if status != 1:
                raise _Broken(f"the search ended with {status}, not 1")

    def _clash(self) -> bool:
        """Tell whether both mods that do not get on are on: what a person sees in the game."""
        with open(os.path.join(self._where, "modding", "boathouse", "mods.json"), "rb") as file:
            text = file.read()
        return b"heron-song" in text and b"bog-mist" in text

    def _moving(self) -> str:
        """Build what the chapters about whole moves play in, once; return its folder."""
        if not os.path.exists(os.path.join(self._where, "moving")):
            build_moving(self._where)
        return "moving"

    @contextmanager
    def _in(self, folder: str) -> Iterator[None]:
        """Go into a folder of the play area, and back."""
        self._print_command(f"cd {folder}")
        self._folder = folder
        yield
        self._print_command("cd ..")
        self._folder = ""

    def _is_build(self, build: str) -> bool:
        path = os.path.join(self._where, "moving", "mossferry", "version.txt")
        with open(path, encoding="utf-8") as file:
            return build in file.read()

    def _kindred_any(self, *args: str) -> int:
        """Run a command that may wait or be done; return its status."""
        self._print_command(shlex.join(["kindred", *args]))
        return self.start([*_KINDRED, *args], os.path.join(self._where, self._folder))

    def _program(self, name: str, top: str, *args: str) -> None:
        """Run a simulated program of the chapter's folder."""
        self._print_command(" ".join(["python", f"{top}/{name}.py", *args]))
        self._run([sys.executable, os.path.join(top, f"{name}.py"), *args], 0)

    @contextmanager
    def game_left_open(self) -> Iterator[None]:
        """Have the game run meanwhile, as one does that was left open."""
        self._print_command("python mossferry/mossferry.py --run", " &")
        game = subprocess.Popen(
            [sys.executable, os.path.join("mossferry", "mossferry.py"), "--run"],
            cwd=self._where,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert game.stdout is not None and game.stdin is not None
        try:
            print(game.stdout.readline().strip())
            time.sleep(0.1)
            yield
        finally:
            game.stdin.close()
            game.wait(timeout=30)
            game.stdout.close()

    def _game(self, folder: str = "mossferry", *, status: int = 0, name: str = "mossferry") -> None:
        self._print_command(f"python {folder}/{name}.py")
        self._run([sys.executable, os.path.join(*folder.split("/"), "mossferry.py")], status)

    def _kindred(self, *args: str, status: int = 0) -> None:
        self._print_command(shlex.join(["kindred", *args]))
        self._run([*_KINDRED, *args], status)

    def _run(self, command: list[str], status: int) -> None:
        ended = self.start(command, os.path.join(self._where, self._folder))
        if ended != status:
            raise _Broken(f"{shlex.join(command)} ended with {ended}, not {status}")

    def start(self, command: list[str], folder: str) -> int:
        """Run a command in a folder, and return the status it ended with."""
        sys.stdout.flush()
        return subprocess.run(command, cwd=folder, env=self.environment, check=False).returncode

    def _chapter(self, title: str, text: str) -> None:
        if self._pause:
            input("\n[Enter] ")
        print(f"\n\n{self._mark(title)}")
        self._say(text, before="")

    def _say(self, text: str, *, before: str = "\n") -> None:
        print(f"{before}{text}")

    def _print_command(self, command: str, after: str = "") -> None:
        print(f"\n{self._mark('$ ' + command + after)}", flush=True)

    def _mark(self, text: str) -> str:
        return f"\x1b[1m{text}\x1b[0m" if self._bold else text


_KINDRED = [sys.executable, "-m", "kindred_ledger.cli.main"]
_UPDATE = (
    "update",
    "mossferry",
    "downloads/mossferry-2.0.zip",
    "--old",
    "downloads/mossferry-1.4.zip",
)
# Each stands by itself: its steps run on a fresh play area, too.
CHAPTERS: Mapping[str, Sequence[Callable[[Story], None]]] = {
    "first": (
        Story._look_and_keep,
        Story._fail_and_recover,
        Story._update_and_convert,
        Story._back_and_forth,
    ),
    "releases": (Story._releases,),
    "rented": (Story._rented,),
    "handheld": (Story._handheld,),
    "edits": (Story._ferry_house,),
    "mods": (Story._mods,),
    "project": (Story._project,),
    "world": (Story._worlds,),
    "long-game": (Story._long_games,),
    "move": (Story._whole_move,),
    "preview": (Story._failed_preview,),
    "fleet": (Story._fleet,),
    "suspects": (Story._suspects,),
}
