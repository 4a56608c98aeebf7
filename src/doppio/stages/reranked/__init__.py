"""Reranking."""
