"""Something that goes on beside the demo's steps."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any


@contextmanager
def beside(work: Callable[..., None], *arguments: Any) -> Iterator[None]:
    """Have `work` done in a thread while the block runs; its last argument is set when it is to stop."""
    stopped = threading.Event()
    thread = threading.Thread(target=work, args=(*arguments, stopped), daemon=True)
    thread.start()
    try:
        yield
    finally:
        stopped.set()
        thread.join()
