"""Combinations: extracts without a source, which name their inputs and combine them in one statement."""
