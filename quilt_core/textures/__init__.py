"""Pictures: old paint carried over, tile images to begin with, templates to paint over."""
