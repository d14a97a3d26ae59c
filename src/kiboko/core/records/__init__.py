"""What probes and flow records say happened, as values and as columns."""
