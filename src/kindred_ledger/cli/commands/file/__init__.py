"""The commands of `kindred file`."""
