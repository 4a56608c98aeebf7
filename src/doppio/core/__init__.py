"""The computation: text, chunks, indexes, rankings, measures. No web, no database, no interface."""
