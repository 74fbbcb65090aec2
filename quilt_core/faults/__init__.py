"""What is wrong with UVs. Every fault has a stated definition and tolerance."""
