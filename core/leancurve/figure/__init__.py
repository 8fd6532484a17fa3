"""The skeleton, what its joints are, limbs moved to a target."""
