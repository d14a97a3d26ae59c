"""The walk for many at once: where the address and service lines are cut."""
