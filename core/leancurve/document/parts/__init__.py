"""A clip's parts beside its skeleton and its curves, each declared once."""
