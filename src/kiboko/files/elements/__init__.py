"""The fields of flow records, how columns are mapped to them, and what is rejected."""
