"""Real packets: probes out, flow records and log messages in."""
