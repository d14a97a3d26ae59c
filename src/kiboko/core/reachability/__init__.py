"""Questions about many ends at once."""
