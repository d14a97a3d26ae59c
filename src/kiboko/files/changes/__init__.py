"""Changes as files: read, made in the network file, and taken back."""
