"""What there may be to say of a photo: a file each. `find` gives its findings and notes its figures."""
