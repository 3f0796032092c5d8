"""From a phrase to a surface: what its words mean, and the weave that says so."""
