"""`python -m mending` is the same as the installed program."""

from mending.cli import main

main()
