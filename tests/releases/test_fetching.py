"""Fetching releases: an index that lies, servers that lie, lines that break; nothing wrong is ever taken."""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Mapping
from typing import Any, ClassVar
from unittest import mock

from blake3 import blake3

from kindred_ledger.cards import Card
from kindred_ledger.demo.release_server import ReleaseHandler, release_server
from kindred_ledger.errors import (
    DecisionNeeded,
    FormatError,
    KindredError,
    PlaceError,
    UnsafeName,
    UsageError,
)
from kindred_ledger.progress import Progress, Task
from kindred_ledger.releases import (
    RetryPolicy,
    State,
    check_arrivals,
    choose_release,
    parts_with,
    read_index,
    shelve_from,
    source_at,
)
from tests.support import Case, PlayCase, write

DATA = os.urandom(300_000)
HASTE = RetryPolicy(quiet=0.3, tries=3, pause=0.01)


def index_of(files: Mapping[str, bytes], title: str = "mossferry", **more: Any) -> dict[str, Any]:
    parts = [
        {"file": name, "size": len(data), "digest": blake3(data).hexdigest()}
        for name, data in files.items()
    ]
    row = {"version": "2.0", "date": "2026-05-28", "parts": parts}
    return {"kindred": "releases", "format": 1, "title": title, "releases": [row], **more}


class Line(ReleaseHandler):
    """A server that is cut, quiet or wrong in a way of its own."""

    asked: ClassVar[list[str]] = []

    def do_GET(self) -> None:
        if not self.path.endswith(".json"):
            self.asked.append(self.headers.get("Range", "all"))
        super().do_GET()


class Cutting(Line):
    """Sends 40,000 bytes an answer and hangs up."""

    def send_body(self, data: bytes) -> None:
        self.wfile.write(data[:40_000] if len(data) > 40_000 else data)
        self.close_connection = True


class Deaf(Line):
    """Knows no ranges, and hangs up half-way the first time."""

    def wanted_from(self, data: bytes, mark: str) -> int:
        return 0

    def send_body(self, data: bytes) -> None:
        whole = len(self.asked) > 1 or self.path.endswith(".json")
        self.wfile.write(data if whole else data[:100_000])
        self.close_connection = True


class Elsewhere(Line):
    """Hangs up half-way, then sends another range than was asked for, and says so."""

    def wanted_from(self, data: bytes, mark: str) -> int:
        start = super().wanted_from(data, mark)
        return start + 7 if start and len(self.asked) == 2 else start

    def send_body(self, data: bytes) -> None:
        self.wfile.write(data[:100_000] if len(self.asked) == 1 else data)
        self.close_connection = True


class Slanted(Elsewhere):
    """The same, but it says that the range is the right one."""

    def send_header(self, keyword: str, value: str) -> None:
        if keyword == "Content-Range":
            asked = self.headers["Range"].removeprefix("bytes=").rstrip("-")
            value = f"bytes {asked}-{len(DATA) - 1}/{len(DATA)}"
        super().send_header(keyword, value)


class Boasting(Line):
    """Says that the file is shorter than it is."""

    def send_header(self, keyword: str, value: str) -> None:
        super().send_header(keyword, "250000" if keyword == "Content-Length" else value)


class Mute(Line):
    """Takes the question and says nothing, after some bytes."""

    def send_body(self, data: bytes) -> None:
        if self.path.endswith(".json"):
            self.wfile.write(data)
            return
        self.wfile.write(data[:1000] if len(self.asked) == 1 else b"")
        self.wfile.flush()
        time.sleep(1.0)
        self.close_connection = True


class Dripping(Line):
    """Sends a byte at a time, without end."""

    def send_body(self, data: bytes) -> None:
        with contextlib.suppress(OSError):
            for _ in range(1000):
                self.wfile.write(b" ")
                self.wfile.flush()
                time.sleep(0.02)
        self.close_connection = True


class Astray(Line):
    """Sends whoever asks to what is no address, or one of this machine's own files."""

    to = "http://[::bad/"

    def do_GET(self) -> None:
        self.send_response(302)
        self.send_header("Location", self.to)
        self.send_header("Content-Length", "0")
        self.end_headers()


class Watching(Progress):
    """Remembers what was said."""

    def __init__(self) -> None:
        super().__init__()
        self.said: list[str] = []

    def moved(self, task: Task) -> None:
        if task.state and task.state not in self.said:
            self.said.append(task.state)


class Servers(Case):
    def fetch(
        self, handler: type[Line], index: dict[str, Any] | None = None, **options: Any
    ) -> str:
        handler.asked = []
        files = {"part.bin": DATA}
        files["releases.json"] = json.dumps(index or index_of(files)).encode()
        with release_server(handler, files) as url:
            source = source_at(url)
            part = read_index(source.name, source.read).releases[0].parts[0]
            options = {"patience": HASTE, "progress": Progress(), **options}
            return source.fetch(part, self.path("room"), **options)

    def test_lines_that_break_and_servers_that_err(self) -> None:
        """Cut at each response, without ranges, with wrong ones: the right bytes arrive all the same."""
        ways = ((Line, 1), (Cutting, 8), (Deaf, 2), (Elsewhere, 3), (Slanted, 4), (Boasting, 2))
        for handler, most in ways:
            with self.subTest(handler.__name__):
                path = self.fetch(handler)
                with open(path, "rb") as file:
                    self.assertEqual(file.read(), DATA)
                self.assertLessEqual(len(handler.asked), most, handler.asked)
                self.assertEqual(os.listdir(self.path("room")), ["part.bin"])
                os.remove(path)
        self.assertEqual(len(Cutting.asked), 8)
        self.assertEqual(Cutting.asked[1], "bytes=40000-")

    def test_what_came_stays_for_the_next_run(self) -> None:
        """A server that falls quiet is told to be, then dead; the next run goes on where it was."""
        watching = Watching()
        with self.assertRaisesRegex(PlaceError, r"dead at 1,000 of 300,000 bytes: nothing came"):
            self.fetch(Mute, progress=watching)
        self.assertEqual(watching.said, ["quiet: nothing came for 0.3 s"])
        self.assertEqual(os.listdir(self.path("room")), ["part.bin.fetching"])
        self.fetch(Line)
        self.assertEqual(Line.asked, ["bytes=1000-"])
        self.fetch(Line)
        self.assertEqual(Line.asked, [])  # it is there, and is held against its digest

    def test_a_beginning_of_another_file(self) -> None:
        """What an earlier run left is of an older file: it is found out, and all of it fetched anew."""
        write(self.path("room"), {"part.bin.fetching": bytes(5000)})
        with open(self.fetch(Line), "rb") as file:
            self.assertEqual(file.read(), DATA)
        self.assertEqual(Line.asked, ["bytes=5000-", "all"])

    def test_an_index_or_server_that_lies(self) -> None:
        """Sizes and digests that are not so, parts that are missing: nothing is taken, each is named."""
        true = index_of({"part.bin": DATA})
        for change, words in (
            ({"digest": "0" * 64}, "its digest is another"),
            ({"size": 299_999}, "it sends more than the index says"),
            ({"size": 300_001}, "dead at [0-9,]+ of 300,001"),
            ({"file": "gone.bin"}, "the server says 404"),
        ):
            with self.subTest(words):
                index = json.loads(json.dumps(true))
                index["releases"][0]["parts"][0] |= change
                with self.assertRaisesRegex(PlaceError, words):
                    self.fetch(Line, index)
                self.assertFalse(os.path.exists(self.path("room", "part.bin")))
        self.assertFalse(os.path.exists(self.path("room", "gone.bin")))

    def test_what_is_no_server(self) -> None:
        """Nobody listens; another protocol; a page for people."""
        with self.assertRaisesRegex(PlaceError, "the server cannot be reached"):
            source_at("http://127.0.0.1:9/releases.json").read("releases.json")
        with self.assertRaisesRegex(UsageError, r"at an http\(s\) address or in a file"):
            source_at("gopher://127.0.0.1/releases.json")
        with (
            release_server(Line, {"releases.json": b"<html>"}) as url,
            self.assertRaisesRegex(FormatError, "a page for people"),
        ):
            source = source_at(url)
            read_index(source.name, source.read)


class Indexes(Case):
    def read(self, pages: Mapping[str, Any]) -> Any:
        return read_index("releases.json", lambda name: json.dumps(pages[name]).encode())

    def test_an_index_that_never_ends_or_leads_astray(self) -> None:
        """A byte at a time, redirects to nonsense: an error with the address, in seconds."""
        with (
            release_server(Dripping, {"releases.json": bytes(99_999)}) as url,
            mock.patch("kindred_ledger.releases.fetching._SLOW_SECONDS", 0.5),
            self.assertRaisesRegex(PlaceError, "too slowly"),
        ):
            source_at(url).read("releases.json")
        for to in ("http://[::bad/", "file:///etc/passwd", "http://", "\x01", "http://a b/", "//["):
            Astray.to = to
            with (
                release_server(Astray, {}) as url,
                self.assertRaises(PlaceError, msg=to),
            ):
                source_at(url).read("releases.json")

    def test_bad_indexes(self) -> None:
        """Loops, absolute and climbing names, missing and doubtful parts: refused with their place."""
        good = index_of({"a.zip": b"a"})

        def with_part(**change: Any) -> dict[str, Any]:
            index = json.loads(json.dumps(good))
            index["releases"][0]["parts"][0] |= change
            return index

        twice = json.loads(json.dumps(good))
        twice["releases"][0]["parts"] *= 2
        bare = {**good, "releases": [{"version": "2.0", "parts": []}]}
        nameless = {**good, "releases": [{"parts": good["releases"][0]["parts"]}]}
        round_trip = {"releases.json": {**good, "pages": ["b.json"]}}
        round_trip["b.json"] = {**good, "pages": ["releases.json"]}
        for pages, error, words in (
            (round_trip, FormatError, "go round: releases.json → b.json → releases.json"),
            (
                {"releases.json": with_part(file="/etc/passwd")},
                UnsafeName,
                r"releases\[0\].*absolute",
            ),
            ({"releases.json": with_part(file="../../x.zip")}, UnsafeName, "not allowed"),
            ({"releases.json": with_part(file="http://a/x.zip")}, UnsafeName, "not portable"),
            ({"releases.json": {**good, "pages": ["../b.json"]}}, UnsafeName, "not allowed"),
            ({"releases.json": with_part(digest="abc")}, FormatError, "64 small hex digits"),
            ({"releases.json": with_part(size=-1)}, FormatError, "a size in bytes"),
            ({"releases.json": with_part(size="3")}, FormatError, r"Expected `int`.*parts"),
            ({"releases.json": with_part(colour=1)}, FormatError, "unknown field `colour`"),
            ({"releases.json": bare}, FormatError, "no parts to fetch"),
            ({"releases.json": twice}, FormatError, "two parts are called a.zip"),
            ({"releases.json": nameless}, FormatError, "neither a version nor a date"),
            ({"releases.json": {**good, "format": 2}}, FormatError, "of format 2"),
            (
                {"releases.json": {**good, "pages": ["b.json"]}, "b.json": {**good, "title": "x"}},
                FormatError,
                "this page is of x",
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(error, words):
                try:
                    self.read(pages)
                except KindredError as fault:
                    raise type(fault)(str(fault)) from None

    def test_which_release_is_chosen_and_why(self) -> None:
        """Stable before preview, the platform's own before any; a preview alone is said, not taken."""
        part = index_of({"a.zip": b"a"})["releases"][0]["parts"]

        def row(**named: str) -> dict[str, Any]:
            return {"parts": part, **named}

        index = self.read(
            {
                "releases.json": {
                    **index_of({}),
                    "releases": [
                        row(version="1.4", date="2026-03-12"),
                        row(date="2026-04-02"),
                        row(date="2026-04-19T10:00:00Z"),
                        row(version="2.0", date="2026-05-28"),
                        row(version="2.0", date="2026-05-29", channel="preview"),
                        row(version="2.0", date="2026-05-28", platform="linux"),
                        row(version="2.0", date="2026-05-28", variant="lean"),
                        row(version="2.1", date="2026-10-01", channel="preview"),
                    ],
                }
            }
        )
        chosen = choose_release(index, "2.0", platform="linux")
        self.assertEqual(str(chosen.release), "2.0 (linux, of 2026-05-28)")
        self.assertEqual(len(chosen.reasons), 2)
        windows = choose_release(index, "2.0", platform="windows")
        self.assertEqual(str(windows.release), "2.0 (of 2026-05-28)")
        self.assertIn("stable comes before", " ".join(windows.reasons))
        with self.assertRaisesRegex(
            DecisionNeeded, r"(?s)2.1 is there only as preview.*channel=preview"
        ):
            choose_release(index, "2.1")
        self.assertEqual(choose_release(index, "2.1", channel="preview").release.version, "2.1")
        self.assertEqual(choose_release(index, "2.0", variant="lean").release.variant, "lean")
        self.assertEqual(choose_release(index, "2026-04-19").release.version, "")
        with self.assertRaisesRegex(DecisionNeeded, "could be 2 builds"):
            choose_release(index, "1.4..2.0")
        self.assertEqual(choose_release(index, "2026-04-10..2.0").release.date[:10], "2026-04-19")
        with self.assertRaisesRegex(UsageError, "has no mossferry 3.0"):
            choose_release(index, "3.0")


class FromTheServer(PlayCase):
    def test_the_demo_releases_are_fetched_and_shelved(self) -> None:
        """Stable, preview in parts and builds without a version; the tree is that of the build itself."""
        ledger = self.ledger()
        with release_server() as url:
            source = source_at(url)
            index = read_index(source.name, source.read)
            for wanted, channel, files in (
                ("1.4", "", 194),
                ("", "", 196),
                ("2.1", "preview", 196),
                ("2026-04-19", "", 196),
            ):
                choice = choose_release(index, wanted, parse=self.card.build, channel=channel)
                done = shelve_from(source, choice.release, self.card, ledger=ledger, patience=HASTE)
                self.assertEqual(done.release.entry.files, files, str(choice.release))
            names = [release.name for release in ledger.shelf.releases()]
            self.assertEqual(names, [f"mossferry@{x}" for x in ("1.4", "2.0", "2.1", "2026-04-19")])
            self.assertEqual([n for n in os.listdir(ledger.folder("work")) if "fetched" in n], [])
            preview = choose_release(index, "2.1", channel="preview").release
            held = parts_with(preview, ["data/tiles/003.tile", "data/chimes/1.tone"])
            self.assertEqual([part.name[14:] for part in held], ["data.zip", "chimes.zip"])
            with self.assertRaisesRegex(UsageError, "says that it holds data.bin"):
                parts_with(preview, ["data.bin"])

    def test_a_wrong_label_of_the_index(self) -> None:
        """The index says 2.0, the files say 1.4, or are of another title: nothing is shelved."""
        ledger = self.ledger()
        with open(self.old_zip, "rb") as file:
            old = file.read()
        write(self.path("lying"), {"m.zip": old})
        write(self.path("lying"), {"i.json": json.dumps(index_of({"m.zip": old})).encode()})
        source = source_at(self.path("lying", "i.json"))
        release = read_index(source.name, source.read).releases[0]
        with self.assertRaisesRegex(UsageError, "this is not 2.0"):
            shelve_from(source, release, self.card, ledger=ledger)
        other = Card.load(self.path("longnight.card.toml"))
        with self.assertRaisesRegex(UsageError, "no release of Longnight"):
            shelve_from(source, release, other, ledger=ledger)
        self.assertEqual(ledger.shelf.releases(), [])

    def test_what_a_person_fetches(self) -> None:
        """Complete under whatever name, growing, short, wrong or missing."""
        source = source_at(self.path("downloads", "releases.json"))
        index = read_index(source.name, source.read)
        parts = choose_release(index, "2.1", channel="preview").release.parts
        data = source.fetch(parts[0], "", patience=HASTE, progress=Progress())
        with open(data, "rb") as file:
            whole = file.read()
        now = time.time()
        for contents, age, state in (
            ({"download(1)": whole}, 0, State.COMPLETE),
            ({parts[0].name + ".part": whole[:500]}, 1, State.GROWING),
            ({parts[0].name + ".part": whole[:500]}, 60, State.SHORT),
            ({parts[0].name: bytes(len(whole))}, 60, State.WRONG),
            ({"other.zip": whole[:-1]}, 60, State.MISSING),
        ):
            folder = self.path(f"came-{state}-{age}")
            write(folder, contents)
            found = check_arrivals(parts[:1], folder, clock=lambda age=age: now + age)  # type: ignore[misc]
            self.assertEqual([each.state for each in found], [state])
