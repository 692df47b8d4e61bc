"""Steps on a result after the fetch: declared as data, checked against its columns, compiled to one statement."""
