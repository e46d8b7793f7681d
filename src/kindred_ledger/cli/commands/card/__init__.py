"""The commands of `kindred card`."""
