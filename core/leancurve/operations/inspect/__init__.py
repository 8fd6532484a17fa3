"""Inspect: contacts, findings that are meant."""
