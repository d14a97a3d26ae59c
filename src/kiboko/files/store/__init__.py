"""Files written: whole, appended, exported, or kept as a store."""
