"""Schedules, and the record of every due time."""
