"""Passages of many vectors, such as one a token: compared by the best match of each vector of the question."""
