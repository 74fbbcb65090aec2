"""What UVs are: islands, their outlines and density, stretch, edges, islands of one shape. Nothing here moves one."""
