"""Results whose rows are documents: what is in them, told column by column (BSON, version 1.1)."""
