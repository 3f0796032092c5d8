"""Where a sheet is cut, and at what price."""
