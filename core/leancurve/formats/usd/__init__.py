"""USD read: skeletons and their animations (OpenUSD, UsdSkel), through usd-core."""
