"""Kiboko: is this traffic allowed, which rule decides it, and does the real network agree?"""

__version__ = "0.1.0"
