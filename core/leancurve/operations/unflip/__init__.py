"""Unflip: the same poses with continuous curves."""
