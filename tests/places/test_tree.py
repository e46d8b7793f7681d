"""Trees: the algebra that all operations are a few words of."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.places import DIR, MemoryPlace, Node, Tree, same_content
from tests.support import contents, side_law


def tree_of(drawn: dict[str, object]) -> Tree:
    files = MemoryPlace({p: d for p, d in drawn.items() if isinstance(d, bytes)}).survey()
    links = {p: Node("link", target=t) for p, t in drawn.items() if isinstance(t, str)}
    return Tree({**files, **links, **{p: Node(DIR) for p, d in drawn.items() if d is None}})


trees = contents.map(tree_of)


class Algebra(unittest.TestCase):
    @side_law
    @given(trees, trees)
    def test_a_diff_leads_from_one_to_the_other(self, one: Tree, other: Tree) -> None:
        """Carrying out what `diff` says turns one tree into the other; its reverse goes back."""
        nodes = dict(one)
        for path, status, before, after in one.diff(other):
            self.assertEqual(nodes.get(path), before)
            self.assertEqual(status == "removed", after is None)
            nodes.pop(path, None)
            if after is not None:
                nodes[path] = after
        self.assertEqual(Tree(nodes), other)
        there = {(d.path, d.before, d.after) for d in one.diff(other)}
        self.assertEqual(there, {(d.path, d.after, d.before) for d in other.diff(one)})

    @side_law
    @given(trees, trees)
    def test_overlay_and_subtract(self, lower: Tree, upper: Tree) -> None:
        """What is left after subtracting, laid over again, gives the same content."""
        rest = upper.subtract(lower)
        self.assertEqual(Tree(), upper.subtract(upper))
        for path in upper.leaves:
            self.assertTrue(same_content(lower.overlay(rest)[path], upper[path]))
        self.assertEqual(lower.overlay(Tree()), lower)

    @side_law
    @given(trees, st.sampled_from(("a", "b", "Cargo")))
    def test_views_keep_every_node(self, tree: Tree, folder: str) -> None:
        """Moving into a folder and looking under it are each other's reverse."""
        self.assertEqual(tree.moved_into(folder).under(folder), tree)
        chosen = tree.select(lambda path: path.startswith(folder))
        left = tree.select(lambda path: not path.startswith(folder))
        self.assertEqual({*chosen.leaves, *left.leaves}, set(tree.leaves))
        self.assertEqual(chosen.overlay(left), tree)

    def test_a_file_nobody_has_read_equals_nothing(self) -> None:
        """Equal size is never taken for equal content."""
        unread = Node("file", 3)
        self.assertFalse(same_content(unread, unread))
        self.assertEqual(Tree({"a": unread}).subtract(Tree({"a": unread})).files, ("a",))

    def test_every_folder_stands_in_a_tree(self) -> None:
        """Folders that only lie on the way are nodes too; times and modes are no content."""
        tree = Tree({"a/b/c.txt": Node("file", 1, bytes(32), 5)})
        self.assertEqual(list(tree), ["a", "a/b", "a/b/c.txt"])
        later = tree.overlay({"a/b/c.txt": Node("file", 1, bytes(32), 9, 0o600)})
        self.assertEqual([d.status for d in tree.diff(later)], ["touched"])
        self.assertTrue(tree.same_content(later))
        self.assertEqual((tree.size_bytes, hash(tree) == hash(Tree(tree))), (1, True))
