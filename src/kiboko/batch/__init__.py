"""Whole logs at once: pieces shared out to workers, judged or summed up."""
