"""The sparse index: postings, and ranking by BM25."""
