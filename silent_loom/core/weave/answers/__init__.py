"""How a weave is planned and evaluated."""
