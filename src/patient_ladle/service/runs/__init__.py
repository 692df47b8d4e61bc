"""The ledger: runs, their log, their files, and the workers that carry them out."""
