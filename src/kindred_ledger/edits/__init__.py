"""Edits: what somebody changed in the files of a release, found, kept and put onto other releases."""
