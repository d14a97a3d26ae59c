"""Listings that a host prints: kernel rule sets and sockets."""
