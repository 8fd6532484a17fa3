"""Delivering: a clip in the form that a destination needs, its file, and the proof of it."""
