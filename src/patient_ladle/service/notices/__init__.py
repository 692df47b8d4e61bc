"""Being told: troubles, notices about them, channels, and what was sent."""
