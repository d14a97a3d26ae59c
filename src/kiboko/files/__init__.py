"""Bytes to core values and back: the network file, flow logs, probe logs, open formats."""
