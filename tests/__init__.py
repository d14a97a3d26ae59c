"""The tests of Kiboko. None is timed: a busy machine is no fault, in inputs that are made up no more than elsewhere."""

from hypothesis import HealthCheck, settings

settings.register_profile("untimed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")
