"""Scenes: nodes that hang on one another and move, as glTF and USD hold them, made into takes."""
