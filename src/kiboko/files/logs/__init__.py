"""Readers of logs on disk, piece by piece."""
