"""The network file: shapes, names, values, sections."""
