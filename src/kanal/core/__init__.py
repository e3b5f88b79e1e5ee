"""Computation on Arrow batches, without databases, files or interfaces."""
