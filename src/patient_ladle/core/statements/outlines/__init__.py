"""Statements put together by choosing: an outline is plain data that compiles to a statement of any query language."""
