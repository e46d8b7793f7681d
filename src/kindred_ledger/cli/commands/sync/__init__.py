"""The commands of `kindred sync`."""
