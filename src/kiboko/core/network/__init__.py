"""What a network file says, as frozen values, and the look-ups over it."""
