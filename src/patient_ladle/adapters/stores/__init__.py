"""Where results are kept and delivered to."""
