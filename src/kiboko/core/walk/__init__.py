"""The one evaluator: every gate of a flow asked, forward and reply."""
