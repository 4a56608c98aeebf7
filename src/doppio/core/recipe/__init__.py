"""A recipe: the complete settings of a pipeline as one JSON document."""
