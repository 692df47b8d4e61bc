"""Extracts: named, versioned statements in folders."""
