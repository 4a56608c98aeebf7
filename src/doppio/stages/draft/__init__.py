"""A draft beside the recipe in force: one question under it at once, and all labelled ones within seconds."""
