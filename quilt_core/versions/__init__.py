"""One version of a file against another."""
