"""Measuring a layout: how islands lie to each other. What no similarity changes is measured once; pairs are asked only for islands that moved."""
