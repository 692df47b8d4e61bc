"""The outside world: databases, folders. Drivers are imported below here and nowhere else."""
