"""The commands of `kindred file patch`."""
