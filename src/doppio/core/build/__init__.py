"""From documents and a recipe to an opened pipeline."""
