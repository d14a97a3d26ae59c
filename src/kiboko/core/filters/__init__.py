"""What filters and kernel rule sets decide about one packet."""
