"""The whole way in one call."""
