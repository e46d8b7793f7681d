"""One module a command; each has a click command called `command`."""
