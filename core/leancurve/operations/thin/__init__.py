"""Thin: dense channels to few keys."""
