"""Trials: a recipe measured over the labelled questions of its workspace."""
