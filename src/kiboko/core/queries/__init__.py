"""One question of a user: its ends, its answer, why, and what would change it."""
