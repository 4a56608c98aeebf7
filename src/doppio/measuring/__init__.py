"""Question sets, labels and trials."""
