"""What leaves: forecasts, bakes, deliveries, what a receiver has of them, profiles tried on a material."""
