"""What is wrong with a photo or a sheet, and what is suggested."""
