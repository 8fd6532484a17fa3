"""The same performance on another skeleton."""
