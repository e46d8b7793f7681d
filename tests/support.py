"""What the tests share: folders to work in, trees to write, the command line, random trees."""

from __future__ import annotations

import builtins
import functools
import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import Any

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.changes import Changeset, actions_between, fitted
from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.finding import Finding
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace, MemoryPlace, Node, Place, Tree, scan

# Random cases a law; `run.py --long` asks for 10,000, and for every point where others are a sample.
EXAMPLES = int(os.environ.get("KINDRED_EXAMPLES", "300"))
LONG = EXAMPLES >= 10_000
ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))

law = settings(
    max_examples=EXAMPLES,
    deadline=None,
    derandomize=True,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
)

# For what is slow and not among the laws that the whole stands on.
side_law = settings(law, max_examples=max(100, EXAMPLES // 5))

# The head of a card: a title of which a folder with `peat.exe` is an install.
PEATBOG = """
card = 1
title = "peatbog"
[program]
markers = ["peat.exe"]
"""

# Contents of a made-up folder: bytes for a file, None for an empty folder, text for a link.
Contents = Mapping[str, "bytes | str | None"]


class Case(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = os.path.realpath(holder.name)

    def path(self, *parts: str) -> str:
        return os.path.join(self.folder, *parts)

    def ledger(self, name: str = "ledger", **options: Any) -> Ledger:
        ledger = Ledger.open(self.path(name), **options)
        self.addCleanup(ledger.index.close)
        return ledger

    def place(self, contents: Contents, name: str = "place") -> FolderPlace:
        write(self.path(name), contents)
        return FolderPlace(self.path(name))


class KeptCase(Case):
    """A test that begins with a ledger of three entries and a change: text, a world, and what moved."""

    def setUp(self) -> None:
        super().setUp()
        text = {f"{n}.txt": b"content %d " % n * (n + 1) for n in range(20)}
        world, noise = bytearray(os.urandom(3 << 20)), os.urandom(3 << 20)
        ledger = self.ledger()
        place = self.place({**text, "world": bytes(world), "noise": noise})
        ledger.backup(place)
        world[::5000] = bytes(len(world[::5000]))
        change_to(place, {**text, "world": bytes(world), "noise": b"front" + noise}).apply(ledger)
        ledger.backup(place)
        ledger.index.close()

    def copied(self) -> str:
        """Return a fresh copy of the ledger, without the cache."""
        copy = self.path("copy")
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(self.path("ledger"), copy)
        os.remove(os.path.join(copy, "index.sqlite"))
        return copy


class PlayCase(Case):
    """A test that begins with the demo's play area; of `modding`, `fens`, `fleets` who asks has a copy."""

    modding = False
    fens = False
    fleets = False

    def setUp(self) -> None:
        super().setUp()
        self.folder = os.path.join(self.folder, "area")
        unasked = [name for name in ("modding", "fens", "fleets") if not getattr(self, name)]
        shutil.copytree(_play_area(), self.folder, ignore=shutil.ignore_patterns(*unasked))
        self.card = Card.load(self.path("mossferry.card.toml"))
        self.old_zip = self.path("downloads", "mossferry-1.4.zip")
        self.new_zip = self.path("downloads", "mossferry-2.0.zip")

    def install(self, name: str = "mossferry", **options: Any) -> Any:
        return self.card.open(self.path(*name.split("/")), **options)

    def kindred(self, *args: str, status: int | None = 0, text: str = "") -> Any:
        """Run a command with --json; return what it printed. `status` None takes any."""
        done = kindred(*args, "--json", folder=self.folder, text=text)
        if status is not None:
            self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return json.loads(done.stdout) if done.stdout.startswith("{") else {}

    def judge(self, name: str = "mossferry") -> tuple[int, str]:
        """Let the simulated game load an install; return its status and what it said."""
        done = subprocess.run(
            [sys.executable, self.path(*name.split("/"), f"{name.rpartition('/')[2]}.py")],
            capture_output=True,
            text=True,
            check=False,
        )
        return done.returncode, done.stdout


@functools.cache
def _play_area() -> str:
    holder = tempfile.TemporaryDirectory()
    _HOLDERS.append(holder)
    folder = os.path.join(os.path.realpath(holder.name), "area")
    build_play_area(folder)
    return folder


_HOLDERS: list[tempfile.TemporaryDirectory[str]] = []


def kindred(
    *args: str, folder: str, text: str = "", environment: Mapping[str, str] | None = None
) -> subprocess.CompletedProcess[str]:
    """Run the command line as a process, with a ledger in `folder`."""
    return subprocess.run(
        [sys.executable, "-m", "kindred_ledger.cli.main", *args],
        cwd=folder,
        env={**os.environ, "KINDRED_LEDGER": "ledger", **(environment or {})},
        input=text,
        capture_output=True,
        text=True,
        check=False,
    )


def write(folder: str, contents: Contents) -> None:
    """Write made-up contents to disk."""
    os.makedirs(folder, exist_ok=True)
    for name, data in contents.items():
        path = os.path.join(folder, *name.split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        if data is None:
            os.makedirs(path, exist_ok=True)
        elif isinstance(data, str):
            os.symlink(data, path)
        else:
            with open(path, "wb") as file:
                file.write(data)


def files_in(folder: str) -> dict[str, bytes]:
    """Return the bytes of all files below a folder, by the standard library alone."""
    found = {}
    for top, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(top, name)
            with open(path, "rb") as file:
                found[os.path.relpath(path, folder).replace(os.sep, "/")] = file.read()
    return found


def snapshot(folder: str, *, folder_times: bool = False) -> dict[str, Any]:
    """Read everything below a folder, apart from the library: kind, bytes, mode, time of files.

    The times of folders only if asked for: that of the top folder of a place does not come back.
    """
    found: dict[str, Any] = {}
    for top, folders, files in os.walk(folder):
        for name in folders + files:
            path = os.path.join(top, name)
            key = os.path.relpath(path, folder).replace(os.sep, "/")
            if os.path.islink(path):
                found[key] = ("link", os.readlink(path))
            elif os.path.isdir(path):
                stat = os.stat(path)
                found[key] = ("dir", b"", stat.st_mode, stat.st_mtime_ns * folder_times)
            else:
                stat = os.stat(path)
                with open(path, "rb") as file:
                    found[key] = ("file", file.read(), stat.st_mode, stat.st_mtime_ns)
    return found


def texts(findings: Iterable[Finding]) -> list[str]:
    """Return findings as people read them."""
    return list(map(str, findings))


def change_to(place: Place, contents: Contents, **options: Any) -> Changeset:
    """Return the changeset that turns a place into made-up contents."""
    files = {path: data for path, data in contents.items() if isinstance(data, bytes)}
    source = MemoryPlace(files)
    special = {
        path: Node("dir", mode=0o755) if data is None else Node("link", target=str(data))
        for path, data in contents.items()
        if not isinstance(data, bytes)
    }
    now = scan(place)
    target = Tree({**source.survey(), **special})
    actions = actions_between(now, target, source, reason="a test", metadata=False)
    return fitted(Changeset(place, "test", "a test", now, tuple(actions), **options))


_PARTS = st.sampled_from(("a", "b", "Cargo", "d e", "ü", "f.txt"))
_PATHS = st.lists(_PARTS, min_size=1, max_size=3).map("/".join)
_DATA = st.one_of(st.binary(max_size=60), st.sampled_from((b"", b"same", b"x" * 5000)))
_NODES = st.one_of(_DATA, _DATA, st.none(), st.sampled_from(("a", "../b", "nowhere")))


def _possible(drawn: dict[str, Any]) -> dict[str, Any]:
    """Leave out what would lie below a file or a link, and folders that are not empty."""
    kept: dict[str, Any] = {}
    for path in sorted(drawn):
        above = [path[:at] for at, letter in enumerate(path) if letter == "/"]
        if not any(isinstance(kept.get(folder), (bytes, str)) for folder in above):
            kept[path] = drawn[path]
    return {
        p: d
        for p, d in kept.items()
        if d is not None or not any(q.startswith(p + "/") for q in kept)
    }


contents = st.dictionaries(_PATHS, _NODES, max_size=8).map(_possible)


class Restless(FolderPlace):
    """A folder in which the file `log` grows whenever it is opened, as under a game that runs."""

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        for path in paths:
            if path == "log":
                with open(self.path(path), "ab") as file:
                    file.write(b"more")
            yield from super().read([path])


def small_disk(test: unittest.TestCase, folder: str, size: str) -> None:
    """Mount a disk of its own on a folder for the test; skip the test where that cannot be done."""
    command = ["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", folder]
    if (
        shutil.which("mount") is None
        or subprocess.run(command, capture_output=True, check=False).returncode
    ):
        test.skipTest("no disk can be mounted here")
    test.addCleanup(subprocess.run, ["umount", folder], check=False)


@contextmanager
def opened_files(folder: str) -> Iterator[list[str]]:
    """Give the list of files below `folder` that are opened within the block, by anyone here."""
    opened: list[str] = []
    true = os.open

    def note(full: str) -> None:
        if full.startswith(folder + os.sep) and full not in opened[-1:] and not os.path.isdir(full):
            opened.append(full)

    def noting(path: Any, flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
        fd = true(path, flags, mode, dir_fd=dir_fd)
        note(os.path.realpath(f"/proc/self/fd/{fd}"))
        return fd

    _WATCHERS[folder] = note
    if not _HOOKED:
        _HOOKED.append(True)
        sys.addaudithook(_note_open)
    os.open = noting
    try:
        yield opened
    finally:
        os.open = true
        del _WATCHERS[folder]


_WATCHERS: dict[str, Callable[[str], None]] = {}
_HOOKED: list[bool] = []


def _note_open(event: str, args: tuple[Any, ...]) -> None:
    if event == "open" and _WATCHERS and isinstance(args[0], str) and args[1] is not None:
        for note in list(_WATCHERS.values()):
            note(args[0])  # opened by `open`, which does not ask `os.open`


@contextmanager
def nothing_followed(test: unittest.TestCase, root: str) -> Iterator[None]:
    """Fail if what is opened by a path below `root` is not there."""
    true_open, true_os_open = builtins.open, os.open

    def check(path: Any, fd: int) -> None:
        if isinstance(path, (str, bytes)):
            asked = os.path.abspath(os.fsdecode(path))
            got = os.readlink(f"/proc/self/fd/{fd}")
            if asked.startswith(root + os.sep):
                test.assertTrue(got.startswith(root + os.sep), f"{asked} was followed to {got}")

    def os_open(path: Any, flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
        fd = true_os_open(path, flags, mode, dir_fd=dir_fd)
        if dir_fd is not None:
            path = os.path.join(os.readlink(f"/proc/self/fd/{dir_fd}"), os.fsdecode(path))
        check(path, fd)
        return fd

    def any_open(file: Any, *args: Any, **more: Any) -> Any:
        opened = true_open(file, *args, **more)
        with suppress(OSError, AttributeError):
            check(file, opened.fileno())
        return opened

    os.open, builtins.open = os_open, any_open
    try:
        yield
    finally:
        os.open, builtins.open = true_os_open, true_open


@contextmanager
def unprivileged(folder: str) -> Iterator[None]:
    """Be an ordinary user within the block, one who may enter `folder`, even if run as root."""
    if not hasattr(os, "geteuid") or os.geteuid():
        yield
        return
    for top, folders, files in os.walk(folder):
        for name in ("", *folders, *files):
            os.chown(os.path.join(top, name), _NOBODY, _NOBODY, follow_symlinks=False)
    os.seteuid(_NOBODY)
    try:
        yield
    finally:
        os.seteuid(0)


_NOBODY = 65534
