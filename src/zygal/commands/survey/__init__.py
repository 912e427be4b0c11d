"""What a file is and says of itself."""
