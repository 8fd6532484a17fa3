"""Retarget: the performance retargeted onto another skeleton."""
