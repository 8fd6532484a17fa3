"""Arrays, rotations, filters, and compiled kernels."""
