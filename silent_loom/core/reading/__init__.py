"""What a small network reads from the light on a photo: slopes, height by feature size, shading, occlusion."""
