"""Being told: problems, alerts about them, channels, and what was sent."""
