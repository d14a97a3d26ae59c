"""The command line: one module a command, thin: read, call core, show."""
