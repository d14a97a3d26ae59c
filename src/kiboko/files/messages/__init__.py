"""IPFIX, NetFlow and syslog messages, wherever they come from."""
