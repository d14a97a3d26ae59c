"""The tests of Kiboko. None is timed: a busy machine is no fault, in inputs that are made up no more than elsewhere."""

import atexit
import os
import shutil
import tempfile

from hypothesis import HealthCheck, settings

settings.register_profile("untimed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")

if "KIBOKO_CACHE" not in os.environ:
    # The networks that tests make up are kept apart from the user's own, and not for longer than the run.
    os.environ["KIBOKO_CACHE"] = tempfile.mkdtemp(prefix="kiboko-cache-")
    _OWNER = os.getpid()
    atexit.register(lambda: os.getpid() == _OWNER and shutil.rmtree(os.environ["KIBOKO_CACHE"], ignore_errors=True))
