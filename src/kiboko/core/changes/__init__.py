"""Promises about traffic, held; and what a change does."""
