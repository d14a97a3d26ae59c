"""What a packet bears: addresses, prefixes, ports and services, as exact sets."""
