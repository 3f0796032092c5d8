"""Many at once: folders of photos through a recipe, and sheets of variations."""
