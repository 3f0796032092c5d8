"""Before and during a bake: what it will make, what it costs, what is lost at its size; supersampling, and colour with light."""
