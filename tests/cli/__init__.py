NOUNS = (
    "source", "environment", "extract", "format", "run", "result", "schedule", "backfill", "calendar", "notice", "channel", "user", "token",
    "service", "worker", "value", "phrase",
)  # fmt: skip
"""Of the command line; each has verbs."""
