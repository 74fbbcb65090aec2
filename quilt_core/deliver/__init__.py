"""What leaves: pictures of the layout."""
