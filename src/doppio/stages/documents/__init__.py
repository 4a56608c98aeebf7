"""Documents."""
