"""The clip: tracks, scope, evaluation, stored form."""
