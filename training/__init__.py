"""Makes the shipped joint scorer: training text, hard passages, training, judging, export. See docs/scorer.md."""
