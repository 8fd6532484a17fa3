"""Clips one after another."""
