"""Files that nobody here wrote: whatever configuration this machine's packages brought."""

from __future__ import annotations

import unittest
from collections import Counter

from kindred_ledger.errors import FormatError
from kindred_ledger.formats import Leaf, decode
from tests.formats.corpus import found

FEWEST = 300


class Corpus(unittest.TestCase):
    def test_all_come_back_and_one_edit_changes_nothing_else(self) -> None:
        """At least 300 files; what is refused is refused for a reason the format gives."""
        read: Counter[str] = Counter()
        refused: Counter[str] = Counter()
        for codec, path in found():
            with open(path, "rb") as file:
                data = file.read()
            with self.subTest(path=path):
                try:
                    document = decode(data, codec)
                except FormatError as error:
                    self.assertRegex(error.what, "no valid|entities|expected|no text file|deeper")
                    refused[codec] += 1
                    continue
                read[codec] += 1
                self.assertEqual(document.encode(), data)
                self.edited(data, codec)
        self.assertGreaterEqual(sum(read.values()), FEWEST, read)
        for codec in read:
            self.assertGreater(read[codec], 0, codec)
        # Test data that is wrong on purpose lies among them; real files are read.
        self.assertLess(sum(refused.values()), sum(read.values()) / 4, refused)

    def edited(self, data: bytes, codec: str) -> None:
        document = decode(data, codec)
        before = list(document.leaves())
        times = Counter(leaf.path for leaf in before)
        texts = [leaf for leaf in before if isinstance(leaf.value, str) and times[leaf.path] == 1]
        if not texts or not texts[0].path:
            return
        leaf = texts[len(texts) // 2]
        document.set(leaf.path, "Edited value")
        try:
            after = document.encode()
        except FormatError as error:
            self.assertRegex(error.what, r"the alias \*.* shares what is to change")
            return
        again: list[Leaf] = list(decode(after, codec).leaves())
        self.assertEqual([leaf.path for leaf in again], [leaf.path for leaf in before])
        differing = [a.path for a, b in zip(before, again, strict=True) if a.text != b.text]
        self.assertEqual(differing, [leaf.path])
        head = _in_common(data, after)
        tail = _in_common(data[head:][::-1], after[head:][::-1])
        self.assertLessEqual(len(data) - head - tail, len(leaf.text.encode()) + 2)


def _in_common(one: bytes, other: bytes) -> int:
    """Return how many bytes both begin with."""
    shorter = min(len(one), len(other))
    differing = (at for at in range(shorter) if one[at] != other[at])
    return next(differing, shorter)
