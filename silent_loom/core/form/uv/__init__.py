"""How a model is laid flat: islands and borders, what is wrong with them, texels, unwrapping."""
