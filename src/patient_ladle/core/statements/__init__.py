"""A statement's text: cut into parts, judged, filled in, advised on, completed, written for views. No rows, no files."""
