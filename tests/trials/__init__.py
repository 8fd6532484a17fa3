"""What the application is tried with, again and again: ``./lean trials`` runs all of it."""
