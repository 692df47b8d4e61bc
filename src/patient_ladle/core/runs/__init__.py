"""A run as a whole: the ports it is driven over, the engine, its states and decisions, and members in memory."""
