"""Records of indexes, and the jobs that build them."""
