"""`python -m kiboko`."""

from kiboko.commands.main import run

run()
