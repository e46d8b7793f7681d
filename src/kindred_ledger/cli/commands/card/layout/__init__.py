"""The commands of `kindred card layout`."""
