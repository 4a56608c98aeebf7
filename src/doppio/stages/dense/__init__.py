"""Dense retrieval."""
