"""Shape: curves, timing and poses by hand."""
