"""People, their roles, sign-in and tokens."""
