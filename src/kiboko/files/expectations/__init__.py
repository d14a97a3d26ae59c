"""Expectations in files of their own: YAML, or a table of wanted connections."""
