"""What everything else speaks of: scenes, similarities, tiles. Nothing here knows a format, a packer or a project."""
