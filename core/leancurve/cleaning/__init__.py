"""Continuity, gimbal, contacts, thinning."""
