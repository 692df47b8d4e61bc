"""Serves the console's built files, and its one page with a fresh nonce."""
