"""Calm: spikes, noise, gaps, rates."""
