"""What the API takes and gives."""
