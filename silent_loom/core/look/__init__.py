"""What is read off a picture."""
