"""The dense index: unit vectors and their nearest neighbours."""
