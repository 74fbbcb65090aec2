"""Batches that are started and followed in the browser: one job over a folder of this server, which is allowed by a setting."""
