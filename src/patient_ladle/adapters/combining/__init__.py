"""Results of statements, brought into one private database file and asked there: steps, and combinations."""
