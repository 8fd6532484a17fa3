"""Changes of time: rates, warps, gaps, and what moves along."""
