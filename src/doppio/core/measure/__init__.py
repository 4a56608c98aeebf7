"""From answer spans to relevant chunks, metrics, levels and the loss ledger."""
