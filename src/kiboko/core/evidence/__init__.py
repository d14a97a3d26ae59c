"""Verdicts held against what was observed."""
