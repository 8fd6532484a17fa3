"""Clips one after another: which frames fit, where the second is laid, how they blend."""
