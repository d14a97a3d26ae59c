"""Core values made visible: sentences, tables, JSON."""
