"""How both sides of a cut are joined."""
