"""Retarget: the performance carried onto another skeleton."""
