"""What everything stands on: errors, images, light, kernels, the cores."""
