"""Bring in: how a take is read."""
