"""What is wrong or dangerous in the rules themselves: findings with a place, a proof and a fix."""
