"""The command line as a tree: options with one meaning a name, completion, help, where options may stand."""

from __future__ import annotations

import json
import os
import re
import unittest
from collections.abc import Iterator
from typing import Any

import click

import kindred_ledger as kl
from kindred_ledger.cli.catalog import COMMANDS, groups
from kindred_ledger.cli.group import whole
from kindred_ledger.cli.meanings import MEANINGS
from kindred_ledger.cli.speaking import as_options
from tests.support import ROOT, Case, PlayCase, kindred

_EVERYWHERE = 30  # commands; an option of so many is in all but the story


def commands() -> Iterator[tuple[str, click.Command]]:
    """Yield every command with its name."""
    for name in COMMANDS:
        command: click.Command = whole()
        context = click.Context(command, info_name="kindred")
        for word in name.split():
            assert isinstance(command, click.Group)
            found = command.get_command(context, word)
            assert found is not None, name
            command, context = found, click.Context(found, info_name=word, parent=context)
        if name not in groups():
            yield name, command


def table() -> list[str]:
    """Return the lines of docs/options.md as they should be."""
    used: dict[str, list[str]] = {}
    for name, command in commands():
        for option in command.params:
            if isinstance(option, click.Option):
                used.setdefault(option.opts[0], []).append(name)
    lines = []
    for option, (metavar, told) in MEANINGS.items():
        names = used.pop(option)
        where = ", ".join(f"`{name}`" for name in names) if len(names) < _EVERYWHERE else "all"
        shown = f"{option} {metavar}".strip().replace("|", "\\|")
        lines.append(f"| `{shown}` | {told} | {where} |")
    assert not used, f"options without a meaning: {used}"
    return lines


class Options(unittest.TestCase):
    def test_one_meaning_a_name(self) -> None:
        """Every option of every command is of the table, which the documentation shows."""
        for name, command in commands():
            for option in command.params:
                if isinstance(option, click.Option):
                    metavar, told = MEANINGS[option.opts[0]]
                    self.assertIn(told.removesuffix("."), option.help or "", (name, option.opts))
                    self.assertEqual(option.metavar or "", metavar, (name, option.opts))
        with open(os.path.join(ROOT, "docs", "options.md"), encoding="utf-8") as file:
            self.assertEqual(re.findall(r"^\| `--.*$", file.read(), re.M), table())

    def test_what_chooses_paths_can_leave_some_out(self) -> None:
        for name, command in commands():
            options = {option.opts[0] for option in command.params}
            self.assertEqual("--only" in options, "--exclude" in options, name)


class Places(PlayCase):
    def test_options_in_front_of_the_command(self) -> None:
        """`--json` and `--ledger` may stand before it or behind it."""
        write = ("backup", "mossferry")
        for args in (("--ledger", "front", *write), (*write, "--ledger", "behind")):
            self.assertEqual(kindred(*args, folder=self.folder).returncode, 0)
        self.assertTrue(os.path.isdir(self.path("front")) and os.path.isdir(self.path("behind")))
        shown = kindred("--json", "--ledger", "front", "entries", folder=self.folder).stdout
        self.assertTrue(shown.startswith("{"), shown)

    def test_a_ledger_is_made_by_what_stores_something(self) -> None:
        """And by nothing else: a path that was typed wrong is an error with what to do."""
        for line in ("entries", "history", "show latest", "ledger verify", "undo", "shelf list"):
            done = kindred(*line.split(), "--ledger", "typo", folder=self.folder)
            self.assertEqual(done.returncode, 2, line)
            self.assertIn("kindred backup FOLDER --ledger typo", done.stderr)
        self.assertFalse(os.path.exists(self.path("typo")))

    def test_leaving_paths_out(self) -> None:
        """What fits --exclude stays out; a pattern that fits nothing is an error."""
        kept = self.kindred("backup", "mossferry", "--only", "user/", "--exclude", "pictures/")
        shown = self.kindred("show", kept["entry"]["id"])
        paths = [one["path"] for one in shown["tree"] if one["kind"] == "file"]
        self.assertTrue(paths and all(path.startswith("user/") for path in paths))
        self.assertFalse([path for path in paths if "pictures" in path])
        back = self.kindred("restore", "latest", "--exclude", "saves/", "--dry-run")
        self.assertEqual(back["dry_run"], True)
        for command in ("backup mossferry", "convert mossferry --dry-run", "restore latest"):
            done = kindred(*command.split(), "--exclude", "savez/", folder=self.folder)
            self.assertEqual((done.returncode, "Did you mean" in done.stderr), (2, True), command)


class Words(PlayCase):
    def test_messages_name_options_here_and_arguments_in_python(self) -> None:
        """Neither speaks the other's."""
        carry = ("carry", "mossferry", "second/mossferry", "--category", "settings")
        shown = kindred(*carry, folder=self.folder).stdout
        self.assertIn("Let it give way with --overwrite PATTERN", shown)
        told = self.kindred(*carry, "--yes", status=3)
        self.assertIn("--keep PATTERN", told["error"]["remedy"])
        self.assertNotIn("`", json.dumps(told))
        change = carry_between(self.install(), self.install("second/mossferry"), self.ledger())
        self.assertIn("`overwrite=PATTERN`", change.conflicts[0].remedy)
        self.assertEqual(
            as_options("with `per_version=True` and `last=3`"), "with --per-version and --last 3"
        )
        self.assertEqual(as_options("the key `layout` of a card"), "the key `layout` of a card")


def carry_between(source: Any, target: Any, kept: Any) -> Any:
    return kl.carry(source, target, "settings", ledger=kept)


class Completion(PlayCase):
    def complete(self, *words: str) -> set[str]:
        """Return what bash would be offered for the last word."""
        environment = {
            "_KINDRED_COMPLETE": "bash_complete",
            "COMP_WORDS": " ".join(("kindred", *words)),
            "COMP_CWORD": str(len(words)),
        }
        done = kindred(folder=self.folder, environment=environment)
        return {line.partition(",")[2] for line in done.stdout.splitlines()}

    def test_what_may_come_next(self) -> None:
        """Commands, options, entries, changes, categories and titles."""
        entry = self.kindred("backup", "mossferry")["entry"]["id"]
        self.assertEqual(self.complete("re"), {"reapply", "restore", "redo", "recover"})
        self.assertEqual(self.complete("ledger", "m"), {"mirror"})
        self.assertIn("--exclude", self.complete("restore", "--e"))
        self.assertLessEqual({entry}, self.complete("show", entry[:3]))
        self.assertLessEqual({"mossferry@1.4"}, self.complete("restore", "moss"))
        self.assertIn("saves", self.complete("backup", "mossferry", "--category", "s"))
        self.assertEqual(self.complete("entries", "--title", "moss"), {"mossferry"})

    def test_scripts_for_the_shells(self) -> None:
        for shell in ("bash", "zsh", "fish"):
            script = kindred(
                folder=self.folder, environment={"_KINDRED_COMPLETE": f"{shell}_source"}
            )
            self.assertIn("_KINDRED_COMPLETE", script.stdout, shell)

    def test_nothing_is_made_or_said(self) -> None:
        """Where there is no ledger, and where a card is broken."""
        with open(self.path("broken.card.toml"), "w", encoding="utf-8") as file:
            file.write("card = ")
        self.assertEqual(self.complete("show", "210"), {"210"})
        self.assertFalse(os.path.exists(self.path("ledger")))


class Alone(PlayCase):
    def test_what_to_do_next(self) -> None:
        """First steps where nothing is stored; then what is here, and what is worth doing."""
        first = kindred(folder=self.folder)
        self.assertEqual(first.returncode, 0, first.stderr)
        self.assertIn("kindred backup", first.stdout)
        self.assertFalse(os.path.exists(self.path("ledger")))
        self.kindred("backup", "mossferry")
        update = ("update", "mossferry", "downloads/mossferry-2.0.zip")
        self.kindred(*update, "--old", "downloads/mossferry-1.4.zip", "--yes")
        told = self.kindred()
        self.assertEqual((told["command"], told["entries"], told["unfinished"]), ("", 2, 0))
        here = {each["place"]: each["last_entry"] for each in told["installs"]}
        self.assertTrue(here[self.path("mossferry")])
        self.assertIsNone(here[self.path("second", "mossferry")])
        commands = [step["command"] for step in told["next"]]
        for command in ("kindred backup second/mossferry", "kindred undo", "kindred ledger drill"):
            self.assertIn(command, commands)


class WithoutACard(Case):
    def test_a_first_backup(self) -> None:
        """A folder that nobody described is kept under its own name."""
        os.makedirs(self.path("peat"))
        with open(self.path("peat", "a.txt"), "w", encoding="utf-8") as file:
            file.write("1")
        self.assertEqual(kindred("backup", "peat", folder=self.folder).returncode, 0)
        kindred("backup", "peat", "--build", "1.2", folder=self.folder)
        listed = kindred("entries", folder=self.folder).stdout
        self.assertRegex(listed, r"(?s)peat@unknown.*peat@1\.2")


if __name__ == "__main__":
    unittest.main()
