"""The program `kiboko`, and `python -m kiboko`."""

from __future__ import annotations

import gc
import sys  # and nothing that has to be loaded: whoever interrupts that would be told of it


def run() -> None:
    """Start. Even while it is still being loaded it can be interrupted without a word of how it was made."""
    # What is loaded stays: to look for garbage in it again and again would take a tenth of a short command's time.
    gc.set_threshold(200_000, 20, 50)
    try:
        from kiboko.commands.main import run as run_command

        run_command()
    except KeyboardInterrupt:
        raise _end() from None
    except RuntimeError as error:  # what an interruption becomes inside a class that is being made (PEP 487)
        if not isinstance(error.__cause__, KeyboardInterrupt):
            raise
        raise _end() from None


def _end() -> SystemExit:
    sys.stderr.write("kiboko: interrupted\n")
    return SystemExit(130)


if __name__ == "__main__":
    run()
