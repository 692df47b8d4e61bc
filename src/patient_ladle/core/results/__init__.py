"""Rows on their way: columns, shaping, guards, previews, differences. No bytes of files."""
