"""Formats made up for the tests of layouts: each with a writer and a reader of its own, by `struct` alone."""
