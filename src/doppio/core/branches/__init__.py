"""First-stage retrieval: each kind of branch ranks chunks for a question on its own."""
