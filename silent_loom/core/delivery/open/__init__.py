"""Open materials beside the pictures: glTF, MaterialX, USD."""
