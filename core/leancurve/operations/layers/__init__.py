"""Layers: corrections over a performance, by hand and into its own curves."""
