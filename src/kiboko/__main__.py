"""The program `kiboko`, and `python -m kiboko`."""

from __future__ import annotations

import gc
import sys
from typing import NoReturn


def run() -> None:
    """Start. Even while it is still being loaded it can be interrupted without a word of how it was made."""
    # What is loaded stays: to look for garbage in it again and again would take a tenth of a short command's time.
    gc.set_threshold(200_000, 20, 50)
    try:
        from kiboko.commands.main import run as run_command

        run_command()
    except KeyboardInterrupt:
        _end()
    except RuntimeError as error:  # what an interruption becomes inside a class that is being made (PEP 487)
        if not isinstance(error.__cause__, KeyboardInterrupt):
            raise
        _end()


def _end() -> NoReturn:
    sys.stderr.write("kiboko: interrupted\n")
    sys.exit(130)


if __name__ == "__main__":
    run()
