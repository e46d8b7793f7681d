"""The commands of `kindred shelf`."""
