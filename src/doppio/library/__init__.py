"""Workspaces, their members, documents, chunkings and chunks."""
