"""All computation. Knows nothing of the store, the web or the command line."""
