"""Real packets: probes out."""
