"""Patient Ladle: shared extract queries, run unattended, with result files that can be proven whole."""

__version__ = "0.1.0"
