"""Kindred Ledger: move saves, settings and installs between versions, with books that balance."""
