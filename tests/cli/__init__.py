NOUNS = (
    "source", "environment", "extract", "lookup", "outline", "draft", "format", "run", "result", "schedule", "backfill", "calendar", "alert", "channel", "user", "group", "token",
    "service", "worker", "value", "phrase",
)  # fmt: skip
"""Of the command line; each has verbs."""
