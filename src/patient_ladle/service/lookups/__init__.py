"""Lookups: small tables kept in the repository, in revisions."""
