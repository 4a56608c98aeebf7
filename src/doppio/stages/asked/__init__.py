"""One question through all stages."""
