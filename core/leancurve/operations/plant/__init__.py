"""Plant: feet and hands held where they stand."""
