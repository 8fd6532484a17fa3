"""Drift and findings."""
