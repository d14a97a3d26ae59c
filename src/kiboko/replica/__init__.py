"""The network rebuilt from kernel namespaces and kernel filters on this machine: the judge of the walk.

Nothing here asks the walk. The rooms share the parsed model (`kiboko.core.network.model`) and exact sets, and read the
clauses of docs/semantics.md for themselves.
"""
