"""Files made on demand: a function, a query, rows as CSV."""
