"""One number over time: keys, handles, riding keys, easing, splicing."""
