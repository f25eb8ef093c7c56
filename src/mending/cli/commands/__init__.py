"""One thin module a command; each has a `command`."""
