"""Work on models: looked at, unwrapped, baked, materials laid on them."""
