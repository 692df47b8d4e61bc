"""Proving result files, now or at any later time: counters that read the bytes, and a file held against its descriptor.

Knows nothing of whoever wrote the files; the standard library and one JSON parser suffice.
"""
