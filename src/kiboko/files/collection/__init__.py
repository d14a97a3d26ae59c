"""What comes off the wire, on its way into a store."""
