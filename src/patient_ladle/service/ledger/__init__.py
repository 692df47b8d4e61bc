"""The ledger: runs, their states, their log, their files, their deliveries, and the workers that carry them out."""
