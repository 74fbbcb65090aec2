"""Repairs of layouts that need no unwrapping: each takes and returns similarities of islands, one row an island."""
