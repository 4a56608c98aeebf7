"""Recipes and their versions, questions asked, and the pipelines that answer them."""
