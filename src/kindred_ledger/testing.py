"""Testing: what a codec of another package must hold to, as tests that package runs on its own.

    from kindred_ledger.testing import CodecContract

    class Reed(CodecContract, unittest.TestCase):
        decode = staticmethod(ReedDocument)
        samples = (b'REED{"coins": 4}',)

What always holds for a codec: a file that nobody edited is written as the bytes it was read from; an edit
changes what was named and nothing else; what was written reads back; damaged files are refused, not guessed.
"""

from __future__ import annotations

import unittest
from collections.abc import Callable, Sequence
from typing import ClassVar

from .errors import FormatError, KindredError
from .formats import Document

__all__ = ["CodecContract"]

_MOST_CUTS = 64  # lengths at which a sample is cut short


class CodecContract:
    """Tests of a codec: mix it into a `unittest.TestCase` and say `decode` and `samples`.

    `decode` turns bytes into a `Document`; `samples` are whole files of the format, small ones with
    everything in them that the format can hold. `refused` are files that it must not read.
    """

    decode: ClassVar[Callable[[bytes], Document]]
    samples: ClassVar[Sequence[bytes]]
    refused: ClassVar[Sequence[bytes]] = ()

    def test_there_are_samples(self) -> None:
        """A contract without a file holds nothing."""
        _case(self).assertTrue(self.samples)

    def test_an_unedited_file_is_the_same_bytes(self) -> None:
        """Whatever stands in it: comments, order, spacing, number text, encodings."""
        for sample in self.samples:
            document = self._read(sample)
            _case(self).assertEqual(document.encode(), sample)
            [*document.leaves()]  # looking changes nothing either
            _case(self).assertEqual(document.encode(), sample)

    def test_every_leaf_is_found_by_its_path(self) -> None:
        """`leaves`, `find` and `get` tell of the same values; each path is there once."""
        for sample in self.samples:
            document = self._read(sample)
            leaves = [*document.leaves()]
            paths = [leaf.path for leaf in leaves]
            _case(self).assertEqual(len(set(paths)), len(paths))
            for leaf in leaves:
                _case(self).assertEqual(document.find(leaf.path), [leaf.path])
                _case(self).assertEqual(document.get(leaf.path), leaf.value)

    def test_one_edit_changes_one_leaf(self) -> None:
        """A value that is put for another reads back, and all others are what they were."""
        for sample in self.samples:
            before = {leaf.path: leaf.value for leaf in self._read(sample).leaves()}
            for path, value in before.items():
                other = _another(value)
                document = self._read(sample)
                try:
                    document.set(path, other)
                except FormatError:
                    continue  # the format has no such value there
                after = {leaf.path: leaf.value for leaf in self._read(document.encode()).leaves()}
                _case(self).assertEqual(after, {**before, path: other}, path)

    def test_a_leaf_that_goes_takes_nothing_with_it(self) -> None:
        """Of keyed members: what was removed is gone, all else is what it was."""
        for sample in self.samples:
            before = {leaf.path: leaf.value for leaf in self._read(sample).leaves()}
            for path in (each for each in before if each and isinstance(each[-1], str)):
                document = self._read(sample)
                try:
                    document.remove(path)
                except KindredError:
                    continue  # it cannot go alone
                after = {leaf.path: leaf.value for leaf in self._read(document.encode()).leaves()}
                rest = {each: value for each, value in before.items() if each != path}
                _case(self).assertLessEqual(rest.items(), after.items(), path)
                _case(self).assertNotIn(path, after)

    def test_damaged_files_are_read_or_refused(self) -> None:
        """Cut short anywhere, or not of the format: an error of ours with words, never another one."""
        for sample in self.samples:
            step = max(1, len(sample) // _MOST_CUTS)
            for length in range(0, len(sample), step):
                try:
                    document = self._read(sample[:length])
                    [*document.leaves()]
                except KindredError as error:
                    _case(self).assertTrue(error.what)
        for data in self.refused:
            with _case(self).assertRaises(KindredError):
                [*self._read(data).leaves()]

    def _read(self, data: bytes) -> Document:
        return type(self).decode(data)


def _case(test: object) -> unittest.TestCase:
    assert isinstance(test, unittest.TestCase), "mix the contract into a unittest.TestCase"
    return test


def _another(value: object) -> object:
    """Return another value of the same kind."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value - 1 if value > 0 else value + 1
    if isinstance(value, float):
        return 1.5 if value != 1.5 else 2.5
    if isinstance(value, bytes):
        return value + b"x"
    return f"{value}x" if isinstance(value, str) else "x"
