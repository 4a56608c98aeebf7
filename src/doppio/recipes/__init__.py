"""Recipes: saved, built over a workspace, opened, and what a build costs."""
